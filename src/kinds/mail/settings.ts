import { z } from "zod";

export const MAIL_PROTOCOLS = ["jmap", "imap"] as const;
export const MAIL_AUTHS = ["application", "password", "bearer", "master", "proxy"] as const;
/** The ways to sign in that each protocol has. */
export const AUTHS_OF: Readonly<
  Record<(typeof MAIL_PROTOCOLS)[number], readonly (typeof MAIL_AUTHS)[number][]>
> = {
  jmap: ["application", "password", "bearer"],
  imap: ["password", "master", "proxy", "bearer"],
};

/** How a mail tenant is reached, besides its address and secret. */
export const mailSettings = z.object({
  /** How the console signs in; connections of earlier versions are applications. */
  auth: z.enum(MAIL_AUTHS).optional(),
  /** Connections of earlier versions speak JMAP. */
  protocol: z.enum(MAIL_PROTOCOLS).optional(),
  /** The mailboxes that a master user or proxy of an IMAP server reads. */
  mailboxes: z.array(z.string()).optional(),
  /** What stands between the mailbox and the master user in a name to sign in with. */
  separator: z.string().optional(),
  /** Of an application. */
  tenantId: z.string(),
  /** The application's id, or the user's name. */
  clientId: z.string(),
  region: z.string(),
  /**
   * Where calendars and contacts are, by CalDAV and CardDAV: an `https://` address. `{mailbox}` in it stands for the mailbox;
   * then it is the address of its principal.
   */
  dav: z.string().optional(),
  /** Hosts besides the address's own that a technician confirmed. */
  otherHosts: z.array(z.string()).optional(),
});
export type MailSettings = z.infer<typeof mailSettings>;

/** What people see of them. */
export const mailFacts = ({ tenantId, clientId, protocol, region, dav }: MailSettings) => [
  { label: "Protocol", value: (protocol ?? "jmap").toUpperCase() },
  { label: "Tenant id", value: tenantId },
  { label: tenantId ? "Client id" : "User", value: clientId },
  { label: "Calendars and contacts", value: dav ?? "" },
  { label: "Region", value: region },
];
