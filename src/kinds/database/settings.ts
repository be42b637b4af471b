import { z } from "zod";

/** How the connection to a server is encrypted. */
export const DATABASE_TLS = ["verify", "encrypt", "off"] as const;

/** How a database server is reached, besides its address and password. */
export const databaseSettings = z.object({
  user: z.string(),
  /** The database that is opened to list the others. */
  maintenance: z.string(),
  /** `verify`: with a certificate of a known authority; `encrypt`: with any certificate; `off`: in the clear. */
  tls: z.enum(DATABASE_TLS),
  /** Certificates (PEM) of the authority that `verify` accepts; empty: those that Node knows. */
  authority: z.string().optional(),
  region: z.string(),
});
export type DatabaseSettings = z.infer<typeof databaseSettings>;

/** Each as people read it. */
export const TLS_WORDS: Readonly<Record<DatabaseSettings["tls"], string>> = {
  verify: "TLS, certificate verified",
  encrypt: "TLS, certificate not verified",
  off: "not encrypted",
};
/** What people see of them. */
export const databaseFacts = ({ user, tls, region }: DatabaseSettings) => [
  { label: "User", value: user },
  { label: "Connection", value: TLS_WORDS[tls] },
  { label: "Region", value: region },
];
