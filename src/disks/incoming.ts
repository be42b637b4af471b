import type { Duplex } from "node:stream";

/** The connection ended, or was ended, before what was waited for had come. */
export class Disconnected extends Error {}

/** More than this is not taken from the connection before somebody reads it. */
const HELD = 4 * 1024 * 1024;

/** What arrives on a connection, read in pieces of known length. One reader at a time. */
export class Incoming {
  private readonly parts: Buffer[] = [];
  private held = 0;
  private ended: Error | null = null;
  private wake: (() => void) | null = null;

  constructor(private readonly socket: Duplex) {
    socket.on("data", this.onData);
    socket.once("error", this.onError);
    socket.once("close", this.onClose);
  }

  private readonly onData = (part: Buffer) => {
    this.parts.push(part);
    this.held += part.length;
    if (this.held >= HELD) this.socket.pause();
    this.woken();
  };
  private readonly onError = (error: Error) => this.end(error);
  private readonly onClose = () => this.end(new Disconnected("the connection was closed"));

  private end(error: Error): void {
    this.ended ??= error;
    this.woken();
  }
  private woken(): void {
    const { wake } = this;
    this.wake = null;
    wake?.();
  }

  /** Leaves the connection to another reader; what has arrived and was not read is put back. */
  release(): void {
    this.socket.off("data", this.onData);
    this.socket.off("error", this.onError);
    this.socket.off("close", this.onClose);
    this.socket.pause();
    if (this.held > 0) this.socket.unshift(Buffer.concat(this.parts));
  }

  async bytes(length: number): Promise<Buffer> {
    const [first] = this.parts;
    if (first && first.length > length) {
      this.parts[0] = first.subarray(length);
      this.held -= length;
      return first.subarray(0, length);
    }
    const into = Buffer.allocUnsafe(length);
    await this.fill(into);
    return into;
  }

  /** Fills a buffer, without another one on the way. */
  async fill(into: Buffer): Promise<void> {
    for (let at = 0; at < into.length; ) {
      const first = this.parts[0];
      if (!first) {
        if (this.ended) throw this.ended;
        this.socket.resume();
        await new Promise<void>((resolve) => {
          this.wake = resolve;
        });
        continue;
      }
      const part = first.subarray(0, into.length - at);
      part.copy(into, at);
      at += part.length;
      this.held -= part.length;
      if (part.length === first.length) this.parts.shift();
      else this.parts[0] = first.subarray(part.length);
    }
  }

  /** Reads past bytes. */
  async skip(length: number): Promise<void> {
    for (let left = length; left > 0; ) {
      const part = Math.min(left, 64 * 1024);
      await this.bytes(part);
      left -= part;
    }
  }
}
