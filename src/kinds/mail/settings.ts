import { z } from "zod";

/** How a mail tenant is reached, besides its address and secret. */
export const mailSettings = z.object({
  /** How the console signs in; connections of earlier versions are applications. */
  auth: z.enum(["application", "password", "bearer"]).optional(),
  /** Of an application. */
  tenantId: z.string(),
  /** The application's id, or the user's name. */
  clientId: z.string(),
  region: z.string(),
  /** Hosts besides the address's own that a technician confirmed. */
  otherHosts: z.array(z.string()).optional(),
});
export type MailSettings = z.infer<typeof mailSettings>;
