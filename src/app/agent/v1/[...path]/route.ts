import { answerAgent } from "@/app/agent/desk";
import { theConsole } from "@/app/console";

export const dynamic = "force-dynamic";

const answer = (request: Request): Promise<Response> => answerAgent(theConsole(), request);

export { answer as GET, answer as POST, answer as PUT };
