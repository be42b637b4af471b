import { invitationById } from "@/db/sessions";
import { hashSecret } from "@/store/secrets";
import { Sign } from "@/ui/mark";
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
    <main className="grid min-h-dvh place-items-center p-6">
      <div className="bg-base-100 border-base-300 w-[420px] max-w-full border p-7">
        <h1 className="mb-5 flex items-center gap-2 text-xl">
          <Sign /> Deep Keep
        </h1>
        {found ? (
          <InvitationForm secret={secret} name={found.name} email={found.email} madeBy={found.madeBy} />
        ) : (
          <p className="warned">
            This invitation was taken up already, or its days are over. Ask whoever sent it for a new one.
          </p>
        )}
      </div>
    </main>
  );
}
