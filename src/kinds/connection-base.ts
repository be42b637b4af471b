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

/** A connection with its secret in the clear. */
export interface OpenConnection<Settings> {
  readonly address: string;
  readonly settings: Settings;
  readonly secret: string;
}
