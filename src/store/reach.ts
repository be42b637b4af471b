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
  return version !== 0 && blocks.check(plain, version === 4 ? "ipv4" : "ipv6");
}

/**
 * What nobody may name unless the operator says otherwise: what is one hop away without a name of its own, such as the
 * services that tell machines in a data centre their secrets; nobody in particular; everybody.
 */
const FORBIDDEN = "169.254.0.0/16, fe80::/10, 0.0.0.0/8, ::, 224.0.0.0/4, ff00::/8";
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
