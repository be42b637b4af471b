import { DoorCard } from "@/ui/door-card";

/** A link that is over: answered as not found, with what to do. */
export default function NotFound() {
  return (
    <DoorCard>
      <p className="warned">
        This link was revoked, or its days are over. Ask whoever sent it for a new one.
      </p>
    </DoorCard>
  );
}
