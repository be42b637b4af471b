import { answerJobs } from "@/store/threads";
import { type Batch, placeAll, type ToldShortly, toldShortly } from "./placing-batch";

/** A thread that puts whole files in place, batch after batch. */
answerJobs<Batch, ToldShortly>((batch) => ({ answer: toldShortly(placeAll(batch)) }));
