import { z } from "zod";
import { hostField, nameField } from "@/core/text/fields";
import { connectionSecret } from "../connection-base";
import { AUTHS_OF, MAIL_AUTHS, MAIL_PROTOCOLS, type MailSettings } from "./settings";

/** How a mail tenant is connected: what is asked for, and what becomes of it. */

const body = z.object({
  protocol: z.enum(MAIL_PROTOCOLS).default("jmap"),
  /** `https://` for JMAP, `imaps://` or (with STARTTLS) `imap://` for IMAP. */
  address: z
    .url({
      protocol: /^(https?|imaps?)$/,
      error: "Enter the server's address, such as https://mail.example.",
    })
    .max(300),
  /**
   * JMAP: an application of the tenant (OAuth 2.0 client credentials), a user name and password, or a bearer token. IMAP: a
   * user name and password, a master user, a user with proxy authorisation, or a bearer token.
   */
  auth: z.enum(MAIL_AUTHS).default("application"),
  /** Of an application. */
  tenantId: z.string().trim().max(200).default(""),
  /** Of a master user or proxy: the mailboxes, as their users sign in. */
  mailboxes: z.array(nameField("the name of a mailbox", 200)).max(2000).default([]),
  /** Of a master user: what stands between the mailbox and the master user's name. */
  separator: z.string().trim().min(1).max(5).default("*"),
  /** The application's client id, or the user name. */
  clientId: z.string().trim().max(200).default(""),
  /** The client secret, the password or the token. */
  clientSecret: connectionSecret,
  region: nameField("the region where the mail is stored", 60),
  /** Hosts besides the addresses' own to which the secret may be sent. */
  otherHosts: z.array(hostField).max(10).default([]),
  /**
   * The CalDAV and CardDAV server of calendars and contacts; empty: none. `{mailbox}` in the address stands for the mailbox:
   * then it is the address of its principal.
   */
  dav: z
    .string()
    .trim()
    .max(300)
    .refine(
      (text) => text === "" || isHttp(text.replaceAll("{mailbox}", "x")),
      "Enter an address such as https://calendar.example, or leave it empty.",
    )
    .default(""),
});
type Body = z.infer<typeof body>;

const isHttp = (text: string): boolean => URL.canParse(text) && /^https?:$/.test(new URL(text).protocol);

function problemOf({ auth, tenantId, clientId, protocol, address, mailboxes, dav }: Body) {
  if (!AUTHS_OF[protocol].includes(auth))
    return {
      field: "auth",
      message: `A server that speaks ${protocol.toUpperCase()} has no such way to sign in.`,
    };
  if (new URL(address).protocol.startsWith("imap") !== (protocol === "imap"))
    return {
      field: "address",
      message:
        protocol === "imap"
          ? "Enter the address of an IMAP server, such as imaps://mail.example."
          : "Enter the address of a JMAP server, such as https://mail.example.",
    };
  if ((auth === "master" || auth === "proxy") && mailboxes.length === 0)
    return { field: "mailboxes", message: "Enter the mailboxes that this user is to read." };
  if (protocol === "imap" && !clientId) return { field: "clientId", message: "Enter the user name." };
  if (auth === "application" && !tenantId) return { field: "tenantId", message: "Enter the tenant id." };
  if (auth !== "bearer" && !clientId)
    return {
      field: "clientId",
      message: auth === "password" ? "Enter the user name." : "Enter the client id of the application.",
    };
  if (dav && (auth === "application" || auth === "proxy") && !dav.includes("{mailbox}"))
    return {
      field: "dav",
      message:
        "This sign-in reads many mailboxes. Enter the address with {mailbox} in it, such as https://calendar.example/principals/{mailbox}/.",
    };
  return null;
}

const settingsOf = (given: Body): MailSettings => {
  const { auth, protocol, tenantId, clientId, region, otherHosts, mailboxes, separator, dav } = given;
  const named = auth === "master" || auth === "proxy" ? { mailboxes } : {};
  return {
    auth,
    protocol,
    tenantId,
    clientId,
    region,
    otherHosts,
    ...named,
    ...(auth === "master" ? { separator } : {}),
    ...(dav ? { dav } : {}),
  };
};

/** The step of a test that is about calendars and contacts. */
export const DAV_STEP = "List calendars and contacts";

/** The fields of the form that a failed step is about. */
const FIELD_OF_CODE: Partial<Record<string, string>> = {
  "source.not-reached": "address",
  "source.signin-refused": "clientSecret",
  "source.not-allowed": "clientId",
  "source.unreadable": "address",
  "source.other-host": "otherHosts",
};

export const MAIL_CONNECTING = {
  body,
  problemOf,
  connectionOf: (given: Body) => {
    const { protocol, host } = new URL(given.address);
    return {
      address: `${protocol}//${host}`,
      settings: settingsOf(given),
      secret: given.clientSecret,
    };
  },
  identityOf: ({ address, settings }: { readonly address: string; readonly settings: MailSettings }) =>
    JSON.stringify([address, settings.tenantId, settings.clientId]),
  // a master user that may not, or a mailbox that is not there
  fieldOf: (code: string, given: Body, step: string) =>
    step === DAV_STEP && code !== "source.other-host"
      ? "dav"
      : code === "source.not-allowed" && given.mailboxes.length > 0
        ? "mailboxes"
        : (FIELD_OF_CODE[code] ?? "address"),
};
