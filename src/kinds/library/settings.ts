import { z } from "zod";

/** How the console signs in at a library: with a user's password, or by a grant of a person (OAuth 2.0). */
export const LIBRARY_AUTHS = ["password", "grant"] as const;

/** How a library server is reached, besides its address and secret. */
export const librarySettings = z.object({
  auth: z.enum(LIBRARY_AUTHS),
  /** The user; of a grant the client id that the server gave the console. */
  user: z.string(),
  /** Of a grant: the address of the authorization server. */
  issuer: z.string().optional(),
  /** Of a grant: what is asked for, words separated by spaces. */
  scope: z.string().optional(),
  /** Below these folders of the address each folder is a team's library; empty: none. */
  teams: z.string(),
  /** Below this one each folder is a person's library; empty: none. Without both, the address is one library. */
  people: z.string(),
  region: z.string(),
  /** Hosts besides the address's own that a technician confirmed. */
  otherHosts: z.array(z.string()).optional(),
});
export type LibrarySettings = z.infer<typeof librarySettings>;

/** What people see of them. */
export const libraryFacts = ({ auth, user, issuer, region }: LibrarySettings) => [
  { label: "Sign-in", value: auth === "grant" ? "grant (OAuth 2.0)" : "user name and password" },
  { label: auth === "grant" ? "Client id" : "User", value: user },
  { label: "Authorization server", value: issuer ?? "" },
  { label: "Region", value: region },
];
