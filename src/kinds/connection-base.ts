import { z } from "zod";
import { nameField } from "@/core/text/fields";

/** What every connection over the network is asked for. */
export const connectionBase = z.object({
  siteId: z.uuid(),
  name: nameField("a name for the connection, as people call it"),
});
/** A password, token or client secret. */
export const connectionSecret = z
  .string()
  .min(1, "Enter the client secret.")
  .max(500, "500 characters at most.");

/** Certificates of an authority that a connection accepts; empty: those that are known anyway. */
export const authorityField = z
  .string()
  .trim()
  .max(100_000)
  .refine(
    (text) => text === "" || /^-----BEGIN CERTIFICATE-----[\s\S]*-----END CERTIFICATE-----$/.test(text),
    "Enter certificates in PEM form, from BEGIN CERTIFICATE to END CERTIFICATE.",
  )
  .default("");

/** A connection with its secret in the clear. */
export interface OpenConnection<Settings> {
  readonly address: string;
  readonly settings: Settings;
  readonly secret: string;
  /**
   * Replaces the stored secret while nobody else does: `next` is given the one that is stored now. Returns the new one. Absent
   * before the connection is stored.
   */
  readonly renew?: (next: (stored: string) => Promise<string>) => Promise<string>;
}
