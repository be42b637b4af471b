import { answerJobs } from "@/store/write/threads";
import { type ListingBatch, type ListingJob, Walks } from "./listing-batch";

const walks = new Walks();

/** A thread that lists folders ahead of the run that walks them. */
answerJobs<ListingJob, ListingBatch>((job) => ({ answer: walks.answer(job) }));
