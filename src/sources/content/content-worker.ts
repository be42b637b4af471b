import { answerJobs } from "@/store/write/threads";
import type { ContentAnswer, ContentJob } from "./batch";
import { RunReadings } from "./run-readings";

const readings = new RunReadings();

/** The thread that reads files beside the one that keeps their tree. */
answerJobs<ContentJob, ContentAnswer>((job) => ({ answer: readings.answer(job) }));
