import { z } from "zod";

/** Fields that several requests have. */

/** A name in one line. `what`: what to enter. */
export const nameField = (what: string, most = 100) =>
  z
    .string()
    .trim()
    .min(1, `Enter ${what}.`)
    .max(most, `${most} characters at most.`)
    .regex(/^[^\p{Cc}\u2028\u2029]*$/u, "Remove line breaks and control characters.");

const isAddress = (text: string): boolean =>
  z.ipv4().safeParse(text).success || z.ipv6().safeParse(text).success;

/** A host: a name (RFC 1123) or an address. */
export const hostField = z
  .string()
  .trim()
  .max(253)
  .refine(
    (text) =>
      isAddress(text) || /^(?!-)[A-Za-z0-9_-]{1,63}(?<!-)(\.(?!-)[A-Za-z0-9_-]{1,63}(?<!-))*\.?$/.test(text),
    "Enter a host name such as mail.example, or an address.",
  );
