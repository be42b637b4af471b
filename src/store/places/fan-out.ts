/** What became of one taker. */
export type Taken<T> =
  | { readonly ok: true; readonly value: T }
  | { readonly ok: false; readonly error: unknown };

type Part = Uint8Array | null;

/** One taker's end of the stream: a single part waits in it at a time. */
class Channel implements AsyncIterable<Uint8Array> {
  private part: Part | undefined;
  private failure: unknown;
  private wake: () => void = () => {};
  private emptied: () => void = () => {};
  private closed = false;

  /** Resolves when the part is taken, or the taker takes no more. */
  async push(part: Part): Promise<void> {
    if (this.closed) return;
    this.part = part;
    this.wake();
    if (part !== null)
      await new Promise<void>((resolve) => {
        this.emptied = resolve;
      });
  }

  fail(error: unknown): void {
    this.failure = error;
    this.wake();
  }

  close(): void {
    this.closed = true;
    this.emptied();
  }

  async *[Symbol.asyncIterator](): AsyncGenerator<Uint8Array> {
    for (;;) {
      while (this.part === undefined && this.failure === undefined)
        await new Promise<void>((resolve) => {
          this.wake = resolve;
        });
      if (this.failure !== undefined) throw this.failure;
      const part = this.part!;
      if (part === null) return;
      this.part = undefined;
      yield part;
      // only now: the giver may use its memory again
      this.emptied();
    }
  }
}

/**
 * Hands one stream to several takers at the pace of the slowest, holding one part of it. A taker that fails is left out
 * and hinders no other; when all have failed the rest is not read. Throws what the stream itself throws, and then no taker
 * has got all of it.
 */
export async function fanOut<T>(
  content: AsyncIterable<Uint8Array>,
  takers: readonly ((content: AsyncIterable<Uint8Array>) => Promise<T>)[],
): Promise<Taken<T>[]> {
  const channels = takers.map(() => new Channel());
  let open = takers.length;
  const results = takers.map((take, i) =>
    take(channels[i]!).then(
      (value): Taken<T> => ({ ok: true, value }),
      (error): Taken<T> => ({ ok: false, error }),
    ),
  );
  const ends = results.map((result, i) =>
    result.finally(() => {
      open -= 1;
      channels[i]!.close();
    }),
  );
  let broken: { readonly error: unknown } | null = null;
  try {
    for await (const part of content) {
      if (open === 0) break;
      await Promise.all(channels.map((channel) => channel.push(part)));
    }
  } catch (error) {
    broken = { error };
  }
  for (const channel of channels) {
    if (broken) channel.fail(broken.error);
    else void channel.push(null);
  }
  const taken = await Promise.all(ends);
  if (broken) throw broken.error;
  return taken;
}
