import { type LookupAddress, type LookupOptions, lookup } from "node:dns";
import { lookup as lookupOnce } from "node:dns/promises";
import { Agent as PlainAgent } from "node:http";
import { Agent as SecureAgent } from "node:https";
import { BlockList, isIP } from "node:net";
import { Agent as FetchAgent, fetch } from "undici";
import { CodedError } from "@/core/codes";

/**
 * Which addresses this program may reach when somebody else says where: webhooks, buckets, mail servers, tenants. Every
 * connection to such a place goes through here, and is weighed by the address that it really goes to.
 */

/** Blocks of addresses: `192.0.2.0/24, 2001:db8::1`. Throws a RangeError that names what is none. */
export function blocksOf(text: string): BlockList {
  const list = new BlockList();
  for (const one of text.split(/[\s,]+/).filter(Boolean)) {
    const [address, bits] = one.split("/") as [string, string | undefined];
    const version = isIP(address);
    const most = version === 4 ? 32 : 128;
    const prefix = bits === undefined ? most : Number(bits);
    if (!version || !/^\d*$/.test(bits ?? "") || bits === "" || prefix > most)
      throw new RangeError(`“${one}” is no address and no block of addresses such as 192.0.2.0/24.`);
    list.addSubnet(address, prefix, version === 4 ? "ipv4" : "ipv6");
  }
  return list;
}

/** An address as it is written: one of version 4 is not dressed up as one of version 6. */
export const plainAddress = (address: string): string => address.replace(/^::ffff:(?=\d+\.)/i, "");

export function isIn(blocks: BlockList, address: string): boolean {
  const plain = plainAddress(address);
  const version = isIP(plain);
  if (version === 0) return false;
  if (blocks.check(plain, version === 4 ? "ipv4" : "ipv6")) return true;
  const inside = version === 6 ? embeddedAddress(plain) : null;
  return inside !== null && blocks.check(inside, "ipv4");
}

/**
 * The address of version 4 that one of version 6 leads to: mapped or compatible (RFC 4291), translated (RFC 6052, RFC 8215),
 * 6to4 (RFC 3056); null for others.
 */
function embeddedAddress(address: string): string | null {
  const bytes = bytesOf(address);
  const starts = (...head: number[]) => head.every((byte, i) => bytes[i] === byte);
  const zeros = (from: number, to: number) => bytes.subarray(from, to).every((byte) => byte === 0);
  const at = (place: number) => [...bytes.subarray(place, place + 4)].join(".");
  if (zeros(0, 10) && bytes[10] === 0xff && bytes[11] === 0xff) return at(12);
  if (zeros(0, 12) && !zeros(12, 15)) return at(12);
  if (starts(0x00, 0x64, 0xff, 0x9b) && (zeros(4, 12) || starts(0x00, 0x64, 0xff, 0x9b, 0x00, 0x01)))
    return at(12);
  return starts(0x20, 0x02) ? at(2) : null;
}

/** The 16 bytes of an address of version 6. */
function bytesOf(address: string): Uint8Array {
  const [text] = address.split("%") as [string];
  const four = /(.*:)(\d+)\.(\d+)\.(\d+)\.(\d+)$/.exec(text);
  const hex = (a: string, b: string) => ((Number(a) << 8) | Number(b)).toString(16);
  const plain = four ? `${four[1]}${hex(four[2]!, four[3]!)}:${hex(four[4]!, four[5]!)}` : text;
  const [head = "", tail] = plain.split("::");
  const words = (part: string) => (part ? part.split(":").map((word) => Number.parseInt(word, 16)) : []);
  const before = words(head);
  const after = tail === undefined ? [] : words(tail);
  const all = [...before, ...Array(8 - before.length - after.length).fill(0), ...after];
  return Uint8Array.from(all.flatMap((word) => [word >> 8, word & 0xff]));
}

/**
 * What nobody may name unless the operator says otherwise: what is one hop away without a name of its own, such as the
 * services that tell machines in a data centre their secrets; nobody in particular; everybody.
 */
const FORBIDDEN =
  "169.254.0.0/16, fe80::/10, fd00:ec2::/32, 100.100.100.200, 192.0.0.0/24, 0.0.0.0/8, ::, 224.0.0.0/4, ff00::/8, 255.255.255.255";
let forbidden: BlockList | null = null;
const forbiddenBlocks = (): BlockList => {
  forbidden ??= blocksOf(process.env.DEEPKEEP_FORBIDDEN ?? FORBIDDEN);
  return forbidden;
};
/** Says anew what is forbidden, for this process; undefined: what the operator says. Throws a RangeError. */
export function forbid(blocks: string | undefined): void {
  forbidden = blocks === undefined ? null : blocksOf(blocks);
}

/** Throws `address.forbidden` for an address that may not be reached; a name is weighed when it is looked up. */
export function refuseForbidden(host: string): void {
  const address = host.replace(/^\[|\]$/g, "");
  if (isIP(address) && isIn(forbiddenBlocks(), address))
    throw new CodedError("address.forbidden", `${address} is not to be reached from here`);
}

/** Looks a name up as Node does, and gives those of its addresses that may be reached. */
export function lookupAllowed(
  host: string,
  options: LookupOptions,
  done: (error: Error | null, address: string | LookupAddress[], family?: number) => void,
): void {
  lookup(host, { ...options, all: true }, (error, addresses) => {
    if (error) return done(error, "");
    const allowed = addresses.filter(({ address }) => !isIn(forbiddenBlocks(), address));
    const [first] = allowed;
    if (!first)
      return done(new CodedError("address.forbidden", `${host} lies at ${addresses[0]?.address}`), "");
    if (options.all) return done(null, allowed);
    done(null, first.address, first.family);
  });
}

/** The address of a host that may be reached, for what connects by itself. Throws `address.forbidden`. */
export async function allowedAddress(host: string): Promise<string> {
  refuseForbidden(host);
  const addresses = await lookupOnce(host, { all: true });
  const allowed = addresses.find(({ address }) => !isIn(forbiddenBlocks(), address));
  if (!allowed) throw new CodedError("address.forbidden", `${host} lies at ${addresses[0]?.address}`);
  return allowed.address;
}

const dispatcher = new FetchAgent({ connect: { lookup: lookupAllowed as never } });

/** `fetch`, to places that may be reached. Throws `address.forbidden` for others. */
export const fetchAllowed: typeof globalThis.fetch = async (input, init) => {
  refuseForbidden(new URL(String(input)).hostname);
  try {
    return (await fetch(String(input), { ...(init as object), dispatcher })) as unknown as Response;
  } catch (error) {
    const { cause } = error as Error;
    throw cause instanceof CodedError ? cause : error;
  }
};

/** Agents for clients of HTTP that take them. */
export const allowedAgents = () => ({
  httpAgent: new PlainAgent({ keepAlive: true, lookup: lookupAllowed as never }),
  httpsAgent: new SecureAgent({ keepAlive: true, lookup: lookupAllowed as never }),
});
