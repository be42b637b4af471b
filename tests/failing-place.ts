import { CodedError } from "@/core/codes";
import type { Place } from "@/store/places/place";

/** When a call fails: before it does anything, when half is written, or when all is done and only the answer is lost. */
export const FAILURES = ["before", "half-way", "answer lost"] as const;
export type Failure = (typeof FAILURES)[number];

/** A place whose n-th changing call (write or removal) fails; all others go through. */
export class FailingPlace implements Place {
  changes = 0;
  constructor(
    private readonly inner: Place,
    /** 0: never. */
    private readonly at: number,
    private readonly how: Failure = "before",
  ) {}

  private fails(): boolean {
    this.changes += 1;
    return this.changes === this.at;
  }

  async put(name: string, content: AsyncIterable<Uint8Array> | Iterable<Uint8Array>): Promise<number> {
    if (!this.fails()) return this.inner.put(name, content);
    if (this.how === "before") throw new CodedError("depot.full", name);
    if (this.how === "half-way") return this.inner.put(name, firstHalf(content));
    await this.inner.put(name, content);
    throw new CodedError("depot.not-reached", "the answer was lost");
  }

  async remove(name: string): Promise<void> {
    if (!this.fails()) return this.inner.remove(name);
    if (this.how === "answer lost") await this.inner.remove(name);
    throw new CodedError("depot.not-reached", "the connection was cut");
  }

  size = (name: string) => this.inner.size(name);
  read = (name: string, offset: number, length: number) => this.inner.read(name, offset, length);
  list = (prefix: string) => this.inner.list(prefix);
}

async function* firstHalf(content: AsyncIterable<Uint8Array> | Iterable<Uint8Array>) {
  for await (const part of content) {
    yield part.subarray(0, Math.ceil(part.length / 2));
    throw Object.assign(new Error("no space left"), { code: "ENOSPC" });
  }
}
