import { answerJobs } from "@/store/write/threads";
import { type PlacingAnswer, type PlacingJob, placeAll, writePiece } from "./placing-batch";

/** A thread that puts whole files in place, batch after batch, and writes pieces of larger ones. */
answerJobs<PlacingJob, PlacingAnswer>((job) => ({ answer: "fd" in job ? writePiece(job) : placeAll(job) }));
