import { DoorCard } from "@/ui/frame/door-card";

/** A link that is over: answered as not found, with what to do. */
export default function NotFound() {
  return (
    <DoorCard>
      <p className="warned">This link was revoked or has expired. Ask the sender for a new one.</p>
    </DoorCard>
  );
}
