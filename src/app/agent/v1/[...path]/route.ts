import { answerAgent } from "@/app/agent/requests";
import { theConsole } from "@/app/console";

export const dynamic = "force-dynamic";

const answer = (request: Request): Promise<Response> => answerAgent(theConsole(), request);

export { answer as DELETE, answer as GET, answer as HEAD, answer as PATCH, answer as POST, answer as PUT };
