import { z } from "zod";
import { nameField } from "@/core/text/fields";
import { authorityField, connectionSecret } from "../connection-base";
import { DATABASE_TLS, type DatabaseSettings } from "./settings";

/** How a database server is connected: what is asked for, and what becomes of it. */

const body = z.object({
  /** `postgresql://HOST` or `postgresql://HOST:PORT`. */
  address: z
    .string()
    .trim()
    .max(300)
    .refine((text) => {
      if (!URL.canParse(text)) return false;
      const { protocol, hostname, pathname, search, username } = new URL(text);
      return (
        /^postgres(ql)?:$/.test(protocol) && hostname !== "" && /^\/?$/.test(pathname) && !search && !username
      );
    }, "Enter an address such as postgresql://db.example:5432, without user and database."),
  user: nameField("the user name", 63),
  password: connectionSecret,
  maintenance: z.string().trim().min(1).max(63).default("postgres"),
  tls: z.enum(DATABASE_TLS).default("verify"),
  authority: authorityField,
  region: nameField("the region where the data is stored", 60),
});
type Body = z.infer<typeof body>;

/** The steps of a test; a failed one leads to its field. */
export const STEPS = {
  find: "Find the server",
  signIn: "Sign in",
  program: "Find the dump program",
  list: "List the databases",
} as const;

/** Host and port of an address. */
export function serverOf(address: string): { readonly host: string; readonly port: number } {
  const { hostname, port } = new URL(address);
  return { host: hostname.replace(/^\[|\]$/g, ""), port: port ? Number(port) : 5432 };
}

export const DATABASE_CONNECTING = {
  body,
  problemOf: ({ tls, authority }: Body) =>
    authority && tls !== "verify"
      ? { field: "authority", message: "Certificates of an authority are used only when they are verified." }
      : null,
  connectionOf: ({ address, user, password, maintenance, tls, authority, region }: Body) => {
    const { host, port } = serverOf(address);
    const settings: DatabaseSettings = {
      user,
      maintenance,
      tls,
      region,
      ...(authority ? { authority } : {}),
    };
    return {
      address: `postgresql://${host.includes(":") ? `[${host}]` : host}:${port}`,
      settings,
      secret: password,
    };
  },
  identityOf: ({ address }: { readonly address: string }) => address,
  fieldOf: (code: string, _given: Body, step: string) =>
    code === "source.signin-refused"
      ? "password"
      : step === STEPS.find
        ? "address"
        : code === "source.not-allowed"
          ? "user"
          : code === "source.tls"
            ? "tls"
            : "address",
};
