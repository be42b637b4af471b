import { z } from "zod";

/** How disks travel between host and console. */
export const TRANSFERS = ["tls", "plain"] as const;

/** How a hypervisor host is reached, besides its address and token. */
export const guestSettings = z.object({
  /** `tls`: disks travel over TLS, with a certificate that is verified; `plain`: in the clear, or by a socket of this machine. */
  transfer: z.enum(TRANSFERS),
  /** Certificates (PEM) of the authority that is accepted; empty: those that Node knows. */
  authority: z.string().optional(),
  region: z.string(),
});
export type GuestSettings = z.infer<typeof guestSettings>;

export const TRANSFER_WORDS: Readonly<Record<GuestSettings["transfer"], string>> = {
  tls: "TLS, certificate verified",
  plain: "not encrypted",
};
/** What people see of them. */
export const guestFacts = ({ transfer, region }: GuestSettings) => [
  { label: "Transfer of disks", value: TRANSFER_WORDS[transfer] },
  { label: "Region", value: region },
];
