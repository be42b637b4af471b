/** What waits for a second person. */
export interface ShownConsent {
  readonly id: string;
  readonly kind: string;
  readonly subject: string;
  readonly reason: string;
  readonly askedByName: string;
  readonly clientName: string;
  readonly expiresAt: Date;
  /** Whoever looks has asked for it: they can only take it back. */
  readonly own?: boolean;
}

/** A wish without what is for the server alone. */
export const shownConsent = ({
  id,
  kind,
  subject,
  reason,
  askedByName,
  clientName,
  expiresAt,
}: ShownConsent): ShownConsent => ({ id, kind, subject, reason, askedByName, clientName, expiresAt });
