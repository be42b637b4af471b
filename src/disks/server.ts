import { createServer, type Server, type Socket } from "node:net";
import type { Duplex } from "node:stream";
import { TLSSocket, type TLSSocketOptions } from "node:tls";
import { ALLOCATION, type BlockDevice, type Status, ZERO } from "./device";
import { Disconnected, Incoming } from "./incoming";
import {
  CAN,
  CHUNK,
  CHUNK_DONE,
  COMMAND,
  COMMAND_FLAG,
  ERRNO,
  HANDSHAKE,
  INFO,
  NAME_BYTES,
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
  u64,
} from "./protocol";

/** What a server offers. */
export interface Exports {
  /** Names that anybody who connects may see. */
  names(): readonly string[];
  /** The device of a name for one connection; null where there is none. */
  open(name: string): Promise<OpenExport | null>;
}
export interface OpenExport {
  readonly device: BlockDevice;
  /** The connection ended. */
  close(): void;
}

export interface ServerOptions {
  /** Key and certificate, and the authority of clients where they must show one. Without TLS a client is refused then. */
  readonly tls?: TLSSocketOptions | undefined;
  /** What went wrong while a request was served; the client gets an I/O error. */
  readonly failed?: ((error: unknown) => void) | undefined;
}

/** So many requests of one connection are served at once. */
const AT_ONCE = 16;
/** Read and sent in parts of this size. */
const PART_BYTES = 4 * 1024 * 1024;
/** Status entries of one answer. */
const STATUSES = 8192;
const HANDSHAKE_MS = 20_000;
const BLOCK = { minimum: 1, preferred: 4096 } as const;

/** A client that does not keep to the protocol. */
class Breach extends Error {}

interface Chosen {
  readonly opened: OpenExport;
  /** Contexts by their numbers. */
  readonly contexts: readonly { readonly id: number; readonly name: string }[];
  readonly structured: boolean;
}

/** One connection: the handshake, then requests until the client leaves. */
class Connection {
  private incoming: Incoming;
  private structured = false;
  private meta: { readonly name: string; readonly contexts: readonly string[] } | null = null;
  private secure = false;
  private noZeroes = false;
  /** Replies go out one after another, each as a whole. */
  private sending: Promise<void> = Promise.resolve();

  constructor(
    private socket: Duplex,
    private readonly exports: Exports,
    private readonly options: ServerOptions,
  ) {
    this.incoming = new Incoming(socket);
  }

  async serve(): Promise<void> {
    const late = setTimeout(
      () => this.socket.destroy(new Disconnected("no export was chosen in time")),
      HANDSHAKE_MS,
    );
    let chosen: Chosen | null;
    try {
      chosen = await this.handshake();
    } finally {
      clearTimeout(late);
    }
    if (!chosen) {
      this.socket.end();
      return;
    }
    try {
      await this.transmission(chosen);
      this.socket.end();
    } finally {
      chosen.opened.close();
    }
  }

  private send(...parts: Buffer[]): Promise<void> {
    this.sending = this.sending.then(async () => {
      const { socket } = this;
      if (socket.destroyed) throw new Disconnected("the connection was closed");
      let room = true;
      socket.cork();
      for (const part of parts) room = socket.write(part);
      socket.uncork();
      if (!room) await drained(socket);
    });
    // whoever sends hears of it; the chain goes on
    const sent = this.sending;
    this.sending = sent.catch(() => {});
    return sent;
  }

  private async handshake(): Promise<Chosen | null> {
    await this.send(u64(NBD_MAGIC), u64(OPTION_MAGIC), u16(HANDSHAKE.fixedNewstyle | HANDSHAKE.noZeroes));
    const flags = (await this.incoming.bytes(4)).readUInt32BE();
    if (flags & ~(HANDSHAKE.fixedNewstyle | HANDSHAKE.noZeroes)) throw new Breach("unknown client flags");
    this.noZeroes = (flags & HANDSHAKE.noZeroes) > 0;
    for (;;) {
      const head = await this.incoming.bytes(16);
      if (head.readBigUInt64BE(0) !== OPTION_MAGIC) throw new Breach("an option without its magic");
      const option = head.readUInt32BE(8);
      const length = head.readUInt32BE(12);
      if (length > OPTION_BYTES) {
        await this.incoming.skip(length);
        await this.reply(option, REPLY.tooBig);
        continue;
      }
      const data = await this.incoming.bytes(length);
      if (option === OPTION.abort) {
        await this.reply(option, REPLY.ack).catch(() => {});
        return null;
      }
      if (option === OPTION.startTls) {
        await this.startTls(option, length);
        continue;
      }
      if (this.options.tls && !this.secure) {
        // the old way of choosing an export has no answer that refuses
        if (option === OPTION.exportName) return null;
        await this.reply(option, REPLY.tlsRequired);
        continue;
      }
      const chosen = await this.answerOption(option, data);
      if (chosen !== "more") return chosen;
    }
  }

  private async startTls(option: number, length: number): Promise<void> {
    const { tls } = this.options;
    if (!tls || this.secure) return this.reply(option, REPLY.policy);
    if (length > 0) return this.reply(option, REPLY.invalid);
    await this.reply(option, REPLY.ack);
    this.incoming.release();
    const secured = new TLSSocket(this.socket as Socket, { ...tls, isServer: true });
    await new Promise<void>((resolve, reject) => {
      secured.once("secure", resolve);
      secured.once("error", reject);
      secured.once("close", () => reject(new Disconnected("the connection was closed")));
    });
    secured.on("error", () => {});
    if (tls.requestCert && secured.authorizationError) {
      secured.destroy();
      throw new Disconnected("the client's certificate was not accepted");
    }
    this.socket = secured;
    this.incoming = new Incoming(secured);
    this.secure = true;
    // what was negotiated in the clear is void
    this.structured = false;
    this.meta = null;
  }

  private async answerOption(option: number, data: Buffer): Promise<Chosen | null | "more"> {
    switch (option) {
      case OPTION.exportName: {
        const opened = await this.exports.open(data.toString("utf8"));
        if (!opened) return null;
        await this.send(
          u64(opened.device.size),
          u16(this.abilities(opened.device)),
          ...(this.noZeroes ? [] : [Buffer.alloc(124)]),
        );
        return { opened, contexts: [], structured: this.structured };
      }
      case OPTION.list:
        if (data.length > 0) await this.reply(option, REPLY.invalid);
        else {
          for (const name of this.exports.names()) {
            const bytes = Buffer.from(name, "utf8");
            await this.reply(option, REPLY.server, u32(bytes.length), bytes);
          }
          await this.reply(option, REPLY.ack);
        }
        return "more";
      case OPTION.structuredReply:
        if (data.length > 0) await this.reply(option, REPLY.invalid);
        else {
          this.structured = true;
          await this.reply(option, REPLY.ack);
        }
        return "more";
      case OPTION.listMetaContext:
      case OPTION.setMetaContext:
        await this.answerContexts(option, data);
        return "more";
      case OPTION.info:
      case OPTION.go:
        return this.answerInfo(option, data);
      default:
        await this.reply(option, REPLY.unsupported);
        return "more";
    }
  }

  private async answerContexts(option: number, data: Buffer): Promise<void> {
    if (option === OPTION.setMetaContext) this.meta = null;
    const asked = readContexts(data);
    if (!asked || (option === OPTION.setMetaContext && !this.structured))
      return this.reply(option, REPLY.invalid);
    const opened = await this.exports.open(asked.name);
    if (!opened) return this.reply(option, REPLY.unknown);
    const all = [ALLOCATION, ...opened.device.contexts];
    opened.close();
    const lists = option === OPTION.listMetaContext;
    const chosen =
      lists && asked.queries.length === 0
        ? all
        : all.filter((name) =>
            asked.queries.some((query) => query === name || (lists && query === `${name.split(":")[0]}:`)),
          );
    for (const name of chosen)
      await this.reply(
        option,
        REPLY.metaContext,
        u32(lists ? 0 : all.indexOf(name) + 1),
        Buffer.from(name, "utf8"),
      );
    if (!lists) this.meta = { name: asked.name, contexts: chosen };
    await this.reply(option, REPLY.ack);
  }

  private async answerInfo(option: number, data: Buffer): Promise<Chosen | "more"> {
    const asked = readInfo(data);
    if (!asked) {
      await this.reply(option, REPLY.invalid);
      return "more";
    }
    const opened = await this.exports.open(asked.name);
    if (!opened) {
      await this.reply(option, REPLY.unknown);
      return "more";
    }
    const { device } = opened;
    await this.reply(option, REPLY.info, u16(INFO.export), u64(device.size), u16(this.abilities(device)));
    if (asked.wants.includes(INFO.blockSize))
      await this.reply(
        option,
        REPLY.info,
        u16(INFO.blockSize),
        u32(BLOCK.minimum),
        u32(BLOCK.preferred),
        u32(REQUEST_BYTES),
      );
    await this.reply(option, REPLY.ack);
    if (option === OPTION.info) {
      opened.close();
      return "more";
    }
    const contexts = this.meta?.name === asked.name ? this.meta.contexts : [];
    const all = [ALLOCATION, ...device.contexts];
    return {
      opened,
      structured: this.structured,
      contexts: contexts.map((name) => ({ id: all.indexOf(name) + 1, name })),
    };
  }

  private abilities({ readOnly }: BlockDevice): number {
    return (
      CAN.hasFlags |
      (readOnly ? CAN.readOnly : CAN.flush | CAN.fua | CAN.trim | CAN.writeZeroes) |
      (this.structured ? CAN.dontFragment : 0) |
      CAN.multiConnection
    );
  }

  private reply(option: number, type: number, ...data: Buffer[]): Promise<void> {
    const length = data.reduce((sum, part) => sum + part.length, 0);
    return this.send(u64(OPTION_REPLY_MAGIC), u32(option), u32(type), u32(length), ...data);
  }

  private async transmission(chosen: Chosen): Promise<void> {
    const underWay = new Set<Promise<void>>();
    try {
      for (;;) {
        const head = await this.incoming.bytes(28);
        if (head.readUInt32BE(0) !== REQUEST_MAGIC) throw new Breach("a request without its magic");
        const request = {
          flags: head.readUInt16BE(4),
          type: head.readUInt16BE(6),
          handle: Buffer.from(head.subarray(8, 16)),
          offset: Number(head.readBigUInt64BE(16)),
          length: head.readUInt32BE(24),
        };
        if (request.type === COMMAND.disconnect) break;
        let payload: Buffer | null = null;
        if (request.type === COMMAND.write) {
          if (request.length > REQUEST_BYTES) throw new Breach("a write that is too long");
          payload = await this.incoming.bytes(request.length);
        }
        const work = this.answer(chosen, request, payload).finally(() => underWay.delete(work));
        work.catch(() => this.socket.destroy());
        underWay.add(work);
        if (underWay.size >= AT_ONCE) await Promise.race(underWay);
      }
    } finally {
      await Promise.allSettled(underWay);
    }
  }

  private async answer(chosen: Chosen, request: Request, payload: Buffer | null): Promise<void> {
    const { device } = chosen.opened;
    const refusal = refusalOf(device, request);
    if (refusal) return this.fail(chosen, request, refusal);
    const { type, flags, offset, length } = request;
    try {
      switch (type) {
        case COMMAND.read:
          return await (chosen.structured
            ? this.readStructured(device, request)
            : this.readSimple(device, request));
        case COMMAND.blockStatus:
          return await this.blockStatus(chosen, request);
        case COMMAND.write:
          await device.write(offset, payload!);
          break;
        case COMMAND.trim:
        case COMMAND.writeZeroes:
          if (length > 0) await device.zero(offset, length);
          break;
        case COMMAND.flush:
          await device.flush();
      }
      if (flags & COMMAND_FLAG.fua) await device.flush();
    } catch (error) {
      if (error instanceof Disconnected) throw error;
      this.options.failed?.(error);
      return this.fail(chosen, request, ERRNO.io, error instanceof Error ? error.message : String(error));
    }
    await this.done(chosen, request);
  }

  private done({ structured }: Chosen, { handle }: Request): Promise<void> {
    return structured
      ? this.send(chunkHead(CHUNK_DONE, CHUNK.none, handle, 0))
      : this.send(u32(SIMPLE_REPLY_MAGIC), u32(0), handle);
  }

  private fail({ structured }: Chosen, { handle }: Request, errno: number, message = ""): Promise<void> {
    if (!structured) return this.send(u32(SIMPLE_REPLY_MAGIC), u32(errno), handle);
    const said = Buffer.from(message.slice(0, 1000), "utf8");
    return this.send(
      chunkHead(CHUNK_DONE, CHUNK.error, handle, 6 + said.length),
      u32(errno),
      u16(said.length),
      said,
    );
  }

  private async readSimple(device: BlockDevice, { handle, offset, length }: Request): Promise<void> {
    // an error has no place after the first byte: all of it is read before
    const bytes = await device.read(offset, length);
    await this.send(u32(SIMPLE_REPLY_MAGIC), u32(0), handle, bytes);
  }

  private async readStructured(device: BlockDevice, request: Request): Promise<void> {
    const { handle, offset, length, flags } = request;
    if (flags & COMMAND_FLAG.dontFragment) {
      const bytes = await device.read(offset, length);
      await this.send(chunkHead(CHUNK_DONE, CHUNK.data, handle, 8 + length), u64(offset), bytes);
      return;
    }
    const end = offset + length;
    for (let at = offset; at < end; ) {
      const [status] = (await device.status(ALLOCATION, at, end - at)) as [Status];
      const holds = (status.flags & ZERO) === 0;
      const part = Math.min(end - at, status.length, holds ? PART_BYTES : Number.MAX_SAFE_INTEGER);
      const last = at + part === end ? CHUNK_DONE : 0;
      if (holds) {
        const bytes = await device.read(at, part);
        await this.send(chunkHead(last, CHUNK.data, handle, 8 + part), u64(at), bytes);
      } else await this.send(chunkHead(last, CHUNK.hole, handle, 12), u64(at), u32(part));
      at += part;
    }
  }

  private async blockStatus(chosen: Chosen, request: Request): Promise<void> {
    const { handle, offset, length, flags } = request;
    if (chosen.contexts.length === 0) return this.fail(chosen, request, ERRNO.invalid);
    const most = flags & COMMAND_FLAG.requestOne ? 1 : STATUSES;
    const parts: Buffer[] = [];
    for (const [i, { id, name }] of chosen.contexts.entries()) {
      const statuses = cut(await chosen.opened.device.status(name, offset, length), length).slice(0, most);
      const last = i === chosen.contexts.length - 1 ? CHUNK_DONE : 0;
      parts.push(chunkHead(last, CHUNK.blockStatus, handle, 4 + 8 * statuses.length), u32(id));
      for (const one of statuses) parts.push(u32(one.length), u32(one.flags));
    }
    await this.send(...parts);
  }
}

interface Request {
  readonly flags: number;
  readonly type: number;
  readonly handle: Buffer;
  readonly offset: number;
  readonly length: number;
}

const WRITES: readonly number[] = [COMMAND.write, COMMAND.trim, COMMAND.writeZeroes];
const SERVED: readonly number[] = [...WRITES, COMMAND.read, COMMAND.flush, COMMAND.blockStatus];

/** The error of a request that cannot be served; null for one that can. */
function refusalOf(device: BlockDevice, { type, offset, length }: Request): number | null {
  if (!SERVED.includes(type)) return ERRNO.invalid;
  if (type === COMMAND.flush) return null;
  if (device.readOnly && WRITES.includes(type)) return ERRNO.notPermitted;
  const isOutside = !Number.isSafeInteger(offset) || offset + length > device.size;
  if (isOutside)
    return type === COMMAND.write || type === COMMAND.writeZeroes ? ERRNO.noSpace : ERRNO.invalid;
  if ((type === COMMAND.read || type === COMMAND.blockStatus) && length === 0) return ERRNO.invalid;
  if (type === COMMAND.read && length > REQUEST_BYTES) return ERRNO.invalid;
  return null;
}

/** No further than was asked for. */
function cut(statuses: readonly Status[], length: number): Status[] {
  const kept: Status[] = [];
  let at = 0;
  for (const one of statuses) {
    if (at >= length) break;
    kept.push({ length: Math.min(one.length, length - at), flags: one.flags });
    at += one.length;
  }
  return kept;
}

function chunkHead(flags: number, type: number, handle: Buffer, length: number): Buffer {
  const bytes = Buffer.alloc(20);
  bytes.writeUInt32BE(STRUCTURED_REPLY_MAGIC, 0);
  bytes.writeUInt16BE(flags, 4);
  bytes.writeUInt16BE(type, 6);
  handle.copy(bytes, 8);
  bytes.writeUInt32BE(length, 16);
  return bytes;
}

/** A name and what stands after it; null where the lengths are not true. */
function readName(data: Buffer): { readonly name: string; readonly rest: Buffer } | null {
  if (data.length < 4) return null;
  const length = data.readUInt32BE(0);
  if (length > NAME_BYTES || data.length < 4 + length) return null;
  return { name: data.toString("utf8", 4, 4 + length), rest: data.subarray(4 + length) };
}

function readContexts(data: Buffer): { readonly name: string; readonly queries: readonly string[] } | null {
  const head = readName(data);
  if (!head || head.rest.length < 4) return null;
  const queries: string[] = [];
  let { rest } = head;
  let count = rest.readUInt32BE(0);
  rest = rest.subarray(4);
  for (; count > 0; count -= 1) {
    const query = readName(rest);
    if (!query) return null;
    queries.push(query.name);
    rest = query.rest;
  }
  return rest.length === 0 ? { name: head.name, queries } : null;
}

function readInfo(data: Buffer): { readonly name: string; readonly wants: readonly number[] } | null {
  const head = readName(data);
  if (!head || head.rest.length < 2) return null;
  const count = head.rest.readUInt16BE(0);
  if (head.rest.length !== 2 + 2 * count) return null;
  return {
    name: head.name,
    wants: Array.from({ length: count }, (_, i) => head.rest.readUInt16BE(2 + 2 * i)),
  };
}

const drained = (socket: Duplex): Promise<void> =>
  new Promise((resolve, reject) => {
    const settle = (how: () => void) => {
      socket.off("drain", onDrain);
      socket.off("close", onClose);
      how();
    };
    const onDrain = () => settle(resolve);
    const onClose = () => settle(() => reject(new Disconnected("the connection was closed")));
    socket.once("drain", onDrain);
    socket.once("close", onClose);
  });

export type ListenAt = { readonly host: string; readonly port: number } | { readonly path: string };

/** A server that listens, and where: the port is its own where none was given. */
export interface Listening {
  readonly at: ListenAt;
  /** Connections that are open. */
  readonly connections: number;
  close(): Promise<void>;
}

/** Serves exports to whoever connects, until it is closed. */
export async function serveNbd(
  at: ListenAt,
  exports: Exports,
  options: ServerOptions = {},
): Promise<Listening> {
  const sockets = new Set<Socket>();
  const server: Server = createServer((socket) => {
    sockets.add(socket);
    socket.setNoDelay(true);
    socket.on("error", () => {});
    socket.once("close", () => sockets.delete(socket));
    new Connection(socket, exports, options).serve().catch(() => socket.destroy());
  });
  await new Promise<void>((resolve, reject) => {
    server.once("error", reject);
    server.listen(at, resolve);
  });
  const address = server.address();
  return {
    at: typeof address === "object" && address && "host" in at ? { host: at.host, port: address.port } : at,
    get connections() {
      return sockets.size;
    },
    close: async () => {
      const closed = new Promise((resolve) => server.close(resolve));
      for (const socket of sockets) socket.destroy();
      await closed;
    },
  };
}
