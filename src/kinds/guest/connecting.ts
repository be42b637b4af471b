import { z } from "zod";
import { nameField } from "@/core/text/fields";
import { authorityField } from "../connection-base";
import { hostAddress } from "./address";
import { type GuestSettings, TRANSFERS } from "./settings";

/** How a hypervisor host is connected: what is asked for, and what becomes of it. */

const body = z.object({
  /** `qemu+ssh://USER@HOST/system`, `qemu+tls://HOST/system`, `qemu:///system`, or `https://HOST` of a host API. */
  address: z
    .string()
    .trim()
    .max(300)
    .refine(
      (text) => hostAddress(text) !== null,
      "Enter an address such as qemu+ssh://keep@host.example/system or https://host.example:8006, without options.",
    ),
  /** Of a host API; libvirt signs in by the key or certificate of the console's account. */
  token: z.string().max(500, "500 characters at most.").default(""),
  transfer: z.enum(TRANSFERS).default("tls"),
  authority: authorityField,
  region: nameField("the region where the data is stored", 60),
});
type Body = z.infer<typeof body>;

/** The steps of a test; a failed one leads to its field. */
export const STEPS = {
  find: "Find the host",
  signIn: "Sign in",
  list: "List the guests",
} as const;

export const GUEST_CONNECTING = {
  body,
  problemOf: ({ address, token, transfer, authority }: Body) => {
    const { by } = hostAddress(address)!;
    if (by === "service" && !token) return { field: "token", message: "Enter the token of the host API." };
    if (by === "libvirt" && token)
      return {
        field: "token",
        message:
          "A libvirt host takes no token: it signs in by the key or certificate of the console's account.",
      };
    if (authority && transfer !== "tls")
      return { field: "authority", message: "Certificates of an authority are used only with TLS." };
    return null;
  },
  connectionOf: ({ address, token, transfer, authority, region }: Body) => {
    const settings: GuestSettings = { transfer, region, ...(authority ? { authority } : {}) };
    return { address: address.replace(/\/+$/, ""), settings, secret: token };
  },
  identityOf: ({ address }: { readonly address: string }) => address,
  fieldOf: (code: string, _given: Body, step: string) =>
    code === "source.signin-refused" && step !== STEPS.find
      ? "token"
      : code === "source.tls"
        ? "authority"
        : "address",
};
