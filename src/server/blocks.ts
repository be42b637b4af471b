import { BlockList, isIP } from "node:net";

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
