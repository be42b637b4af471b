import { z } from "zod";
import { hostField, nameField } from "@/core/text/fields";
import { LIBRARY_AUTHS, type LibrarySettings } from "./settings";

/** How a library server is connected: what is asked for, and what becomes of it. */

const isHttp = (text: string): boolean => URL.canParse(text) && /^https?:$/.test(new URL(text).protocol);

/** A folder of the address; empty: none. */
const folderBelow = z
  .string()
  .trim()
  .max(300)
  .refine(
    (text) => !text.split("/").includes("..") && !/[\p{Cc}?#]/u.test(text),
    "Enter a folder such as teams.",
  )
  .transform((text) => text.split("/").filter(Boolean).join("/"))
  .default("");

const body = z.object({
  /** `https://HOST/PATH/`: libraries are folders below it. */
  address: z
    .string()
    .trim()
    .max(500)
    .refine((text) => {
      if (!isHttp(text)) return false;
      const { search, hash, username } = new URL(text);
      return !search && !hash && !username;
    }, "Enter an address such as https://files.example/dav/, without user, “?” and “#”."),
  auth: z.enum(LIBRARY_AUTHS).default("password"),
  /** The user name; of a grant the client id that the library's administrator registered for this console. */
  user: nameField("the user name or client id", 200),
  /** The password; of a grant the client secret, where the client has one. */
  secret: z.string().max(500, "500 characters at most.").default(""),
  /** Of a grant: the address of the authorization server, which publishes its metadata (RFC 8414, OpenID Connect). */
  issuer: z
    .string()
    .trim()
    .max(500)
    .refine((text) => text === "" || isHttp(text), "Enter an address such as https://files.example.")
    .default(""),
  /** Of a grant: what is asked for, words separated by spaces. */
  scope: z
    .string()
    .trim()
    .max(300)
    .regex(/^[\x21\x23-\x5b\x5d-\x7e ]*$/, "Enter words of plain letters, separated by spaces.")
    .default(""),
  teams: folderBelow,
  people: folderBelow,
  region: nameField("the region where the files are stored", 60),
  /** Hosts besides the address's own to which the sign-in may be sent. */
  otherHosts: z.array(hostField).max(10).default([]),
});
type Body = z.infer<typeof body>;

/** The steps of a test; a failed one leads to its field. */
export const STEPS = {
  find: "Find the server",
  list: "List the libraries",
} as const;

export const LIBRARY_CONNECTING = {
  body,
  problemOf: ({ auth, secret, issuer, teams, people }: Body) => {
    if (auth === "password" && !secret) return { field: "secret", message: "Enter the password." };
    if (auth === "grant" && !issuer)
      return { field: "issuer", message: "Enter the address of the authorization server." };
    if (teams !== "" && teams === people)
      return { field: "people", message: "Team libraries and personal libraries are in different folders." };
    return null;
  },
  connectionOf: ({ address, auth, user, secret, issuer, scope, teams, people, region, otherHosts }: Body) => {
    const { origin, pathname } = new URL(address);
    const settings: LibrarySettings = {
      auth,
      user,
      teams,
      people,
      region,
      otherHosts,
      ...(auth === "grant" ? { issuer: new URL(issuer).href.replace(/\/+$/, ""), scope } : {}),
    };
    return { address: `${origin}${pathname.replace(/\/*$/, "/")}`, settings, secret };
  },
  identityOf: ({ address, settings }: { readonly address: string; readonly settings: LibrarySettings }) =>
    JSON.stringify([address, settings.user]),
  fieldOf: (code: string, given: Body, step: string) =>
    code === "source.signin-refused"
      ? given.auth === "grant"
        ? "user"
        : "secret"
      : code === "source.other-host"
        ? "otherHosts"
        : code === "source.not-allowed"
          ? "user"
          : step === STEPS.list && (given.teams || given.people) && code === "folder.missing"
            ? given.teams
              ? "teams"
              : "people"
            : "address",
};
