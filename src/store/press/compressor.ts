import { availableParallelism } from "node:os";
import { promisify } from "node:util";
import zstd from "@mongodb-js/zstd";
import koffi from "koffi";
import { CodedError } from "@/core/codes";

/**
 * Zstandard (RFC 8878). The system's own library is used where there is one: it is faster than the
 * package (docs/decisions/0007) and works into memory that is used again. The package does it everywhere else.
 */
export interface Compressor {
  readonly name: string;
  /**
   * The bytes compressed; null when they would not become shorter. Of one that works in this thread alone they stay until
   * the next call.
   */
  compress(raw: Uint8Array, level: number): Promise<Buffer | null>;
  /** Exactly `length` bytes, in the memory given where there is one. Throws `store.damaged` for anything else. */
  decompress(packed: Uint8Array, length: number, into?: Buffer): Promise<Buffer>;
}

const damaged = (cause?: unknown) =>
  new CodedError("store.damaged", "a block does not decompress to its length", { cause });

export const packageCompressor: Compressor = {
  name: "package",
  compress: async (raw, level) => {
    const packed = await zstd.compress(raw as Buffer, level);
    return packed.length < raw.length ? packed : null;
  },
  decompress: async (packed, length, into) => {
    const raw = await zstd.decompress(packed as Buffer).catch((error) => Promise.reject(damaged(error)));
    if (raw.length !== length) throw damaged();
    if (!into) return raw;
    raw.copy(into);
    return into.subarray(0, length);
  },
};

/** One use of the library at a time: its context, and memory to work into. */
interface Bench {
  readonly context: unknown;
  scratch: Buffer;
}

const LIBRARY = "libzstd.so.1";

type LibraryCall = (...args: unknown[]) => number | Promise<number>;

/**
 * The system's library as a compressor; null where it is not installed. Threaded, it works beside this thread; a worker
 * that has nothing else to do calls it directly.
 */
export function systemCompressor(threaded: boolean): Compressor | null {
  let library: ReturnType<typeof koffi.load>;
  try {
    library = koffi.load(LIBRARY);
  } catch {
    return null;
  }
  const isError = library.func("uint32 ZSTD_isError(size_t code)");
  const callOf = (declaration: string): LibraryCall => {
    const bound = library.func(declaration);
    return threaded ? (promisify(bound.async) as LibraryCall) : (bound as LibraryCall);
  };
  const compressCall = callOf(
    "size_t ZSTD_compressCCtx(void *ctx, void *dst, size_t room, const void *src, size_t n, int level)",
  );
  const decompressCall = callOf(
    "size_t ZSTD_decompressDCtx(void *ctx, void *dst, size_t room, const void *src, size_t n)",
  );
  const packing = new Benches(library.func("void *ZSTD_createCCtx()"));
  const unpacking = new Benches(library.func("void *ZSTD_createDCtx()"));
  return {
    name: LIBRARY,
    compress: (raw, level) =>
      packing.use(raw.length, async ({ context, scratch }) => {
        // room for less than what there is: what would not shrink ends as an error, and early
        const written = await compressCall(context, scratch, raw.length - 1, raw, raw.length, level);
        if (isError(written)) return null;
        const packed = scratch.subarray(0, Number(written));
        return threaded ? Buffer.from(packed) : packed;
      }),
    decompress: (packed, length, into) =>
      unpacking.use(0, async ({ context }) => {
        const raw = into ? into.subarray(0, length) : Buffer.allocUnsafe(length);
        const written = await decompressCall(context, raw, length, packed, packed.length);
        if (isError(written) || Number(written) !== length) throw damaged();
        return raw;
      }),
  };
}

/** As many contexts as cores; whoever comes later waits. */
class Benches {
  private readonly free: Bench[] = [];
  private readonly waiting: ((bench: Bench) => void)[] = [];
  private made = 0;

  constructor(private readonly makeContext: () => unknown) {}

  async use<T>(room: number, work: (bench: Bench) => Promise<T>): Promise<T> {
    const bench = await this.take();
    if (bench.scratch.length < room) bench.scratch = Buffer.allocUnsafeSlow(room);
    try {
      return await work(bench);
    } finally {
      const next = this.waiting.shift();
      if (next) next(bench);
      else this.free.push(bench);
    }
  }

  private take(): Bench | Promise<Bench> {
    const bench = this.free.pop();
    if (bench) return bench;
    if (this.made < Math.max(2, availableParallelism())) {
      this.made += 1;
      return { context: this.makeContext(), scratch: Buffer.alloc(0) };
    }
    return new Promise((resolve) => this.waiting.push(resolve));
  }
}

export const compressorOf = (threaded: boolean): Compressor =>
  systemCompressor(threaded) ?? packageCompressor;

export const compressor: Compressor = compressorOf(true);

const SAMPLES = 16;
const SAMPLE_BYTES = 256;
/** Random bytes reach 7.95 bits a byte over a sample of this size, text about 5, programs about 6.5. */
const DENSE_BITS = 7.8;
const counts = new Uint16Array(256);

/** Whether bytes look packed or encrypted already, by the entropy of samples spread over them: compressing is in vain. */
export function looksDense(bytes: Uint8Array): boolean {
  if (bytes.length < SAMPLES * SAMPLE_BYTES) return false;
  counts.fill(0);
  const step = Math.floor((bytes.length - SAMPLE_BYTES) / (SAMPLES - 1));
  for (let sample = 0; sample < SAMPLES; sample += 1) {
    const from = sample * step;
    for (let i = from; i < from + SAMPLE_BYTES; i += 1) counts[bytes[i]!]! += 1;
  }
  const total = SAMPLES * SAMPLE_BYTES;
  let bits = Math.log2(total);
  for (const count of counts) if (count) bits -= (count * Math.log2(count)) / total;
  return bits > DENSE_BITS;
}
