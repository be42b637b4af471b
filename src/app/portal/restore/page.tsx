import { mayDo } from "@/core/rights/rights";
import { allGiven } from "@/server/portal/all-given";
import type { AllGiven } from "@/ui/portal/given";
import { PortalRestore } from "@/ui/portal/portal-restore";
import { theServices } from "../../console";
import { asVisitor, signedIn } from "../../visitor";

export default async function Page() {
  const person = await signedIn();
  const given = await asVisitor((tx) =>
    allGiven(tx, { id: person.id, clientId: person.clientId! }, theServices().now()),
  );
  return (
    <PortalRestore
      // as the API tells it from then on
      start={JSON.parse(JSON.stringify(given)) as AllGiven}
      name={person.name}
      manager={mayDo(person.role, "agree")}
    />
  );
}
