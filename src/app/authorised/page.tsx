import { DoorCard } from "@/ui/frame/door-card";
import { CompleteAuthorisation } from "./complete";

export const dynamic = "force-dynamic";
export const metadata = { title: "Authorisation", referrer: "no-referrer" as const };

/** Where the browser returns to from a server's page. It knows nobody: the request that follows is made by the person. */
export default function Page() {
  return (
    <DoorCard>
      <CompleteAuthorisation />
    </DoorCard>
  );
}
