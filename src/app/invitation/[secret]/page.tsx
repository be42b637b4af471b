import { invitationById } from "@/db/access/sessions";
import { hashSecret } from "@/store/seal/secrets";
import { DoorCard } from "@/ui/frame/door-card";
import { theServices } from "../../console";
import { InvitationForm } from "./form";

export const dynamic = "force-dynamic";
export const metadata = { title: "Choose your password", referrer: "no-referrer" as const };

export default async function Page({ params }: { params: Promise<{ secret: string }> }) {
  const { secret } = await params;
  const services = theServices();
  const found = await services.db.withScope({ role: "system" }, (tx) =>
    invitationById(tx, hashSecret(secret), services.now()),
  );
  return (
    <DoorCard>
      {found ? (
        <InvitationForm
          secret={secret}
          name={found.name}
          email={found.email}
          madeBy={found.madeBy}
          factor={found.factor}
        />
      ) : (
        <p className="warned">
          This invitation was already used or has expired. Ask the sender for a new one.
        </p>
      )}
    </DoorCard>
  );
}
