import { theConsole } from "@/app/console";
import { answerAgent } from "@/app/agent/desk";

export const dynamic = "force-dynamic";

const answer = (request: Request): Promise<Response> => answerAgent(theConsole(), request);
export { answer as GET, answer as POST, answer as PUT };
