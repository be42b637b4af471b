import { operations } from "@/app/api/operations";
import { theServices } from "@/app/console";
import { dispatcher } from "@/server/api/dispatch";

export const dynamic = "force-dynamic";

const answer = dispatcher("/api/v1", operations, theServices);

export { answer as DELETE, answer as GET, answer as HEAD, answer as PATCH, answer as POST, answer as PUT };
