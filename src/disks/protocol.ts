/**
 * Numbers of the NBD protocol, fixed newstyle with structured replies.
 * Source: the protocol's public description (NetworkBlockDevice/nbd, doc/proto.md).
 */
export const NBD_MAGIC = 0x4e42444d41474943n;
export const OPTION_MAGIC = 0x49484156454f5054n;
export const OPTION_REPLY_MAGIC = 0x0003e889045565a9n;
export const REQUEST_MAGIC = 0x25609513;
export const SIMPLE_REPLY_MAGIC = 0x67446698;
export const STRUCTURED_REPLY_MAGIC = 0x668e33ef;

export const HANDSHAKE = { fixedNewstyle: 1, noZeroes: 2 } as const;

export const OPTION = {
  exportName: 1,
  abort: 2,
  list: 3,
  startTls: 5,
  info: 6,
  go: 7,
  structuredReply: 8,
  listMetaContext: 9,
  setMetaContext: 10,
} as const;

const error = (number: number) => 0x80000000 + number;
export const REPLY = {
  ack: 1,
  server: 2,
  info: 3,
  metaContext: 4,
  unsupported: error(1),
  policy: error(2),
  invalid: error(3),
  tlsRequired: error(5),
  unknown: error(6),
  tooBig: error(9),
} as const;
export const isErrorReply = (type: number): boolean => type >= 0x80000000;

export const INFO = { export: 0, name: 1, description: 2, blockSize: 3 } as const;

/** What an export can do. */
export const CAN = {
  hasFlags: 1,
  readOnly: 2,
  flush: 4,
  fua: 8,
  trim: 32,
  writeZeroes: 64,
  dontFragment: 128,
  multiConnection: 256,
} as const;

export const COMMAND = {
  read: 0,
  write: 1,
  disconnect: 2,
  flush: 3,
  trim: 4,
  cache: 5,
  writeZeroes: 6,
  blockStatus: 7,
} as const;
export const COMMAND_FLAG = { fua: 1, noHole: 2, dontFragment: 4, requestOne: 8 } as const;

export const CHUNK = {
  none: 0,
  data: 1,
  hole: 2,
  blockStatus: 5,
  error: 0x8001,
  errorOffset: 0x8002,
} as const;
export const CHUNK_DONE = 1;

/** Error numbers of the protocol, whatever they are called on this system. */
export const ERRNO = {
  notPermitted: 1,
  io: 5,
  noMemory: 12,
  invalid: 22,
  noSpace: 28,
  unsupported: 95,
  shuttingDown: 108,
} as const;

/** A name has at most so many bytes. */
export const NAME_BYTES = 4096;
/** Options that are longer than this are refused; contexts and names fit. */
export const OPTION_BYTES = 64 * 1024;
/** Most bytes of one request that every server serves. */
export const REQUEST_BYTES = 32 * 1024 * 1024;

export const u16 = (value: number): Buffer => {
  const bytes = Buffer.alloc(2);
  bytes.writeUInt16BE(value);
  return bytes;
};
export const u32 = (value: number): Buffer => {
  const bytes = Buffer.alloc(4);
  bytes.writeUInt32BE(value);
  return bytes;
};
export const u64 = (value: number | bigint): Buffer => {
  const bytes = Buffer.alloc(8);
  bytes.writeBigUInt64BE(BigInt(value));
  return bytes;
};
