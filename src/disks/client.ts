import { connect, type Socket } from "node:net";
import type { Duplex } from "node:stream";
import { type ConnectionOptions, connect as connectTls } from "node:tls";
import { ALLOCATION, type BlockDevice, type Status } from "./device";
import { Disconnected, Incoming } from "./incoming";
import {
  CAN,
  CHUNK,
  CHUNK_DONE,
  COMMAND,
  HANDSHAKE,
  INFO,
  isErrorReply,
  NBD_MAGIC,
  OPTION,
  OPTION_BYTES,
  OPTION_MAGIC,
  OPTION_REPLY_MAGIC,
  REPLY,
  REQUEST_BYTES,
  REQUEST_MAGIC,
  SIMPLE_REPLY_MAGIC,
  STRUCTURED_REPLY_MAGIC,
  u16,
  u32,
} from "./protocol";

/** Where a server listens. */
export type NbdAddress =
  | { readonly host: string; readonly port: number; readonly tls?: ConnectionOptions | undefined }
  | { readonly path: string };

/** The server answered, and refused. `code` is the protocol's number. */
export class NbdRefused extends Error {
  constructor(
    message: string,
    readonly code: number,
  ) {
    super(message);
  }
}

interface Waiting {
  readonly into: Buffer | null;
  readonly offset: number;
  readonly statuses: Map<number, Status[]>;
  error: NbdRefused | null;
  readonly resolve: () => void;
  readonly reject: (error: unknown) => void;
}

const CONNECT_MS = 20_000;
/** A request that has no answer for so long has none. */
const ANSWER_MS = 120_000;

/** An export of an NBD server. Requests may be made at once; each has its own answer. */
export class NbdClient implements BlockDevice {
  private readonly waiting = new Map<bigint, Waiting>();
  private nextHandle = 1n;
  private failure: unknown = null;
  private lastHeard = Date.now();
  private watch: NodeJS.Timeout | null = null;

  private constructor(
    private readonly socket: Duplex,
    private readonly incoming: Incoming,
    readonly size: number,
    private readonly abilities: number,
    private readonly numbers: ReadonlyMap<string, number>,
  ) {
    void this.receive();
  }

  /**
   * Connects to an export.
   *
   * @param contexts those wanted besides `base:allocation`, of which the server may know none
   * @throws NbdRefused where the server has no such export; a system error or Disconnected where it is not reached
   */
  static async open(address: NbdAddress, name: string, contexts: readonly string[] = []): Promise<NbdClient> {
    const socket = await reach(address);
    try {
      return await negotiate(socket, address, name, contexts, (...parts) => new NbdClient(...parts));
    } catch (error) {
      socket.destroy();
      throw error;
    }
  }

  get readOnly(): boolean {
    return (this.abilities & CAN.readOnly) > 0;
  }
  get contexts(): readonly string[] {
    return [...this.numbers.keys()].filter((name) => name !== ALLOCATION);
  }

  async read(offset: number, length: number): Promise<Buffer> {
    const into = Buffer.allocUnsafe(length);
    await this.readInto(into, offset);
    return into;
  }

  /** Fills a buffer from `offset`. */
  async readInto(into: Buffer, offset: number): Promise<void> {
    for (let at = 0; at < into.length; at += REQUEST_BYTES)
      await this.request(COMMAND.read, offset + at, Math.min(REQUEST_BYTES, into.length - at), {
        into: into.subarray(at, at + REQUEST_BYTES),
      });
  }

  async status(context: string, offset: number, length: number): Promise<readonly Status[]> {
    const number = this.numbers.get(context);
    if (number === undefined) {
      if (context === ALLOCATION) return [{ length, flags: 0 }];
      throw new NbdRefused(`the server does not know ${context}`, REPLY.unknown);
    }
    const asked = Math.min(length, MOST_STATUS_BYTES);
    const { statuses } = await this.request(COMMAND.blockStatus, offset, asked);
    const found = statuses.get(number);
    if (!found?.length) throw new NbdRefused(`no answer about ${context}`, REPLY.invalid);
    return found;
  }

  async write(offset: number, bytes: Buffer): Promise<void> {
    for (let at = 0; at < bytes.length; at += REQUEST_BYTES) {
      const part = bytes.subarray(at, at + REQUEST_BYTES);
      await this.request(COMMAND.write, offset + at, part.length, { payload: part });
    }
  }

  async zero(offset: number, length: number): Promise<void> {
    const can = (this.abilities & CAN.writeZeroes) > 0;
    for (let at = 0; at < length; ) {
      const part = Math.min(length - at, can ? MOST_ZERO_BYTES : REQUEST_BYTES);
      if (can) await this.request(COMMAND.writeZeroes, offset + at, part);
      else await this.write(offset + at, Buffer.alloc(part));
      at += part;
    }
  }

  async flush(): Promise<void> {
    if (this.abilities & CAN.flush) await this.request(COMMAND.flush, 0, 0);
  }

  /** Leaves the server; requests that have no answer yet fail. */
  close(): void {
    if (this.failure === null) this.socket.write(requestHead(COMMAND.disconnect, 0n, 0, 0));
    this.fail(new Disconnected("the connection was closed"));
    this.socket.end();
  }

  private request(
    type: number,
    offset: number,
    length: number,
    { into = null, payload = null }: { readonly into?: Buffer | null; readonly payload?: Buffer | null } = {},
  ): Promise<Waiting> {
    if (this.failure !== null) return Promise.reject(this.failure);
    const handle = this.nextHandle;
    this.nextHandle += 1n;
    return new Promise((resolve, reject) => {
      const waiting: Waiting = {
        into,
        offset,
        statuses: new Map(),
        error: null,
        resolve: () => resolve(waiting),
        reject,
      };
      if (this.waiting.size === 0) this.lastHeard = Date.now();
      this.waiting.set(handle, waiting);
      this.watch ??= setInterval(() => this.look(), ANSWER_MS / 4).unref();
      this.socket.cork();
      this.socket.write(requestHead(type, handle, offset, length));
      if (payload) this.socket.write(payload);
      this.socket.uncork();
    });
  }

  private look(): void {
    if (this.waiting.size > 0 && Date.now() - this.lastHeard > ANSWER_MS)
      this.socket.destroy(new Disconnected(`no answer within ${ANSWER_MS / 1000} seconds`));
  }

  private fail(error: unknown): void {
    this.failure ??= error;
    if (this.watch) clearInterval(this.watch);
    for (const { reject } of this.waiting.values()) reject(error);
    this.waiting.clear();
  }

  private async receive(): Promise<void> {
    try {
      for (;;) {
        const magic = (await this.incoming.bytes(4)).readUInt32BE();
        this.lastHeard = Date.now();
        if (magic === SIMPLE_REPLY_MAGIC) await this.simpleReply();
        else if (magic === STRUCTURED_REPLY_MAGIC) await this.structuredReply();
        else throw new Disconnected("an answer that is not of the protocol");
      }
    } catch (error) {
      this.fail(error);
      this.socket.destroy();
    }
  }

  private asked(handle: bigint): Waiting {
    const waiting = this.waiting.get(handle);
    if (!waiting) throw new Disconnected("an answer to nothing that was asked");
    return waiting;
  }

  private async simpleReply(): Promise<void> {
    const head = await this.incoming.bytes(12);
    const errno = head.readUInt32BE(0);
    const handle = head.readBigUInt64BE(4);
    const waiting = this.asked(handle);
    if (errno === 0 && waiting.into) await this.incoming.fill(waiting.into);
    this.waiting.delete(handle);
    if (errno === 0) waiting.resolve();
    else waiting.reject(refusedWith(errno, ""));
  }

  private async structuredReply(): Promise<void> {
    const head = await this.incoming.bytes(16);
    const flags = head.readUInt16BE(0);
    const type = head.readUInt16BE(2);
    const handle = head.readBigUInt64BE(4);
    const length = head.readUInt32BE(12);
    const waiting = this.asked(handle);
    await this.chunk(waiting, type, length);
    if ((flags & CHUNK_DONE) === 0) return;
    this.waiting.delete(handle);
    if (waiting.error) waiting.reject(waiting.error);
    else waiting.resolve();
  }

  private async chunk(waiting: Waiting, type: number, length: number): Promise<void> {
    const { into } = waiting;
    switch (type) {
      case CHUNK.none:
        if (length !== 0) break;
        return;
      case CHUNK.data: {
        if (!into || length < 8) break;
        const at = Number((await this.incoming.bytes(8)).readBigUInt64BE()) - waiting.offset;
        if (at < 0 || at + length - 8 > into.length) break;
        await this.incoming.fill(into.subarray(at, at + length - 8));
        return;
      }
      case CHUNK.hole: {
        if (!into || length !== 12) break;
        const hole = await this.incoming.bytes(12);
        const at = Number(hole.readBigUInt64BE(0)) - waiting.offset;
        const end = at + hole.readUInt32BE(8);
        if (at < 0 || end > into.length) break;
        into.fill(0, at, end);
        return;
      }
      case CHUNK.blockStatus: {
        if (length < 12 || (length - 4) % 8 !== 0 || length > MOST_STATUS_REPLY) break;
        const bytes = await this.incoming.bytes(length);
        const statuses: Status[] = [];
        for (let at = 4; at < length; at += 8) {
          const one = { length: bytes.readUInt32BE(at), flags: bytes.readUInt32BE(at + 4) };
          if (one.length === 0) throw new Disconnected("a status of nothing");
          statuses.push(one);
        }
        waiting.statuses.set(bytes.readUInt32BE(0), statuses);
        return;
      }
      default: {
        if ((type & 0x8000) === 0 || length < 6 || length > OPTION_BYTES) break;
        const bytes = await this.incoming.bytes(length);
        const end = Math.min(length, 6 + bytes.readUInt16BE(4));
        waiting.error ??= refusedWith(bytes.readUInt32BE(0), bytes.toString("utf8", 6, end));
        return;
      }
    }
    throw new Disconnected("an answer that does not fit what was asked");
  }
}

/** Asked for at once; lengths are 32 bits wide. */
const MOST_STATUS_BYTES = 2 ** 31;
const MOST_ZERO_BYTES = 2 ** 30;
const MOST_STATUS_REPLY = 64 * 1024 * 1024;

const refusedWith = (errno: number, said: string): NbdRefused =>
  new NbdRefused(said || `the server answered with error ${errno}`, errno);

function requestHead(type: number, handle: bigint, offset: number, length: number): Buffer {
  const bytes = Buffer.alloc(28);
  bytes.writeUInt32BE(REQUEST_MAGIC, 0);
  bytes.writeUInt16BE(type, 6);
  bytes.writeBigUInt64BE(handle, 8);
  bytes.writeBigUInt64BE(BigInt(offset), 16);
  bytes.writeUInt32BE(length, 24);
  return bytes;
}

function reach(address: NbdAddress): Promise<Socket> {
  return new Promise((resolve, reject) => {
    const socket = "path" in address ? connect(address.path) : connect(address.port, address.host);
    const late = setTimeout(() => socket.destroy(new Disconnected("no connection in time")), CONNECT_MS);
    socket.once("connect", () => {
      clearTimeout(late);
      socket.setNoDelay(true);
      socket.setTimeout(0);
      resolve(socket);
    });
    socket.once("error", (error) => {
      clearTimeout(late);
      reject(error);
    });
  });
}

type Made = (
  socket: Duplex,
  incoming: Incoming,
  size: number,
  abilities: number,
  numbers: ReadonlyMap<string, number>,
) => NbdClient;

async function negotiate(
  plain: Socket,
  address: NbdAddress,
  name: string,
  wanted: readonly string[],
  made: Made,
): Promise<NbdClient> {
  const late = setTimeout(() => plain.destroy(new Disconnected("no handshake in time")), CONNECT_MS);
  try {
    let session = new Session(plain, new Incoming(plain));
    await session.greet();
    if ("host" in address && address.tls) session = await session.secured(address.host, address.tls);
    const structured = (await session.option(OPTION.structuredReply)).type === REPLY.ack;
    const numbers = structured ? await session.contexts(name, [ALLOCATION, ...wanted]) : new Map();
    const { size, abilities } = await session.go(name);
    return made(session.socket, session.incoming, size, abilities, numbers);
  } finally {
    clearTimeout(late);
  }
}

interface OptionReply {
  readonly type: number;
  readonly data: Buffer;
}

/** The handshake of one connection. */
class Session {
  constructor(
    readonly socket: Duplex,
    readonly incoming: Incoming,
  ) {}

  async greet(): Promise<void> {
    const hello = await this.incoming.bytes(18);
    const isNewstyle = hello.readBigUInt64BE(0) === NBD_MAGIC && hello.readBigUInt64BE(8) === OPTION_MAGIC;
    const flags = hello.readUInt16BE(16);
    if (!isNewstyle || (flags & HANDSHAKE.fixedNewstyle) === 0)
      throw new Disconnected("what answers is not an NBD server of today's protocol");
    const answer = Buffer.alloc(4);
    answer.writeUInt32BE(flags & (HANDSHAKE.fixedNewstyle | HANDSHAKE.noZeroes));
    this.socket.write(answer);
  }

  async secured(host: string, tls: ConnectionOptions): Promise<Session> {
    const reply = await this.option(OPTION.startTls);
    if (reply.type !== REPLY.ack) throw new NbdRefused("the server offers no TLS", reply.type);
    this.incoming.release();
    const secure = connectTls({ ...tls, socket: this.socket, servername: tls.servername ?? nameOf(host) });
    await new Promise<void>((resolve, reject) => {
      secure.once("secureConnect", resolve);
      secure.once("error", reject);
      secure.once("close", () => reject(new Disconnected("the connection was closed")));
    });
    return new Session(secure, new Incoming(secure));
  }

  async contexts(name: string, wanted: readonly string[]): Promise<Map<string, number>> {
    const text = Buffer.from(name, "utf8");
    const numbers = new Map<string, number>();
    const queries = wanted.flatMap((one) => [u32(Buffer.byteLength(one)), Buffer.from(one, "utf8")]);
    const data = Buffer.concat([u32(text.length), text, u32(wanted.length), ...queries]);
    const last = await this.option(OPTION.setMetaContext, data, ({ type, data: context }) => {
      if (type === REPLY.metaContext && context.length > 4)
        numbers.set(context.toString("utf8", 4), context.readUInt32BE(0));
    });
    if (isErrorReply(last.type)) numbers.clear();
    return numbers;
  }

  async go(name: string): Promise<{ readonly size: number; readonly abilities: number }> {
    const text = Buffer.from(name, "utf8");
    let found: { size: number; abilities: number } | null = null;
    const reply = await this.option(OPTION.go, Buffer.concat([u32(text.length), text, u16(0)]), (one) => {
      if (one.type === REPLY.info && one.data.length === 12 && one.data.readUInt16BE(0) === INFO.export)
        found = { size: Number(one.data.readBigUInt64BE(2)), abilities: one.data.readUInt16BE(10) };
    });
    if (reply.type !== REPLY.ack || !found)
      throw new NbdRefused(
        reply.type === REPLY.unknown
          ? `the server has no export “${name}”`
          : reply.type === REPLY.tlsRequired
            ? "the server requires TLS"
            : `the server refused the export “${name}”`,
        reply.type,
      );
    return found;
  }

  /** Sends an option; hears what it answers up to the last of it. */
  async option(
    option: number,
    data: Buffer = Buffer.alloc(0),
    heard: (reply: OptionReply) => void = () => {},
  ): Promise<OptionReply> {
    const head = Buffer.alloc(16);
    head.writeBigUInt64BE(OPTION_MAGIC, 0);
    head.writeUInt32BE(option, 8);
    head.writeUInt32BE(data.length, 12);
    this.socket.write(Buffer.concat([head, data]));
    for (;;) {
      const answer = await this.incoming.bytes(20);
      if (answer.readBigUInt64BE(0) !== OPTION_REPLY_MAGIC || answer.readUInt32BE(8) !== option)
        throw new Disconnected("an answer that is not of the protocol");
      const length = answer.readUInt32BE(16);
      if (length > OPTION_BYTES) throw new Disconnected("an answer that is too long");
      const reply = { type: answer.readUInt32BE(12), data: await this.incoming.bytes(length) };
      heard(reply);
      if (reply.type === REPLY.ack || isErrorReply(reply.type)) return reply;
    }
  }
}

/** A name for TLS; an address has none. */
const nameOf = (host: string): string => (/^[\d.]+$|:/.test(host) ? "" : host);
