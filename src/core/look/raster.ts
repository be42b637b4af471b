import { decode } from "jpeg-js";
import { PNG } from "pngjs";

/** A logo as somebody brings it: at most so many bytes, and so many pixels. */
export const LOGO_BYTES = 512 * 1024;
const PIXELS = 4_000_000;
/** It is kept no larger than this, in pixels: twice what is shown, for dense screens and paper. */
export const LOGO_SIZE = { width: 640, height: 192 } as const;

/** Pixels of a picture, four bytes each (red, green, blue, opacity), row by row. */
interface Raster {
  readonly width: number;
  readonly height: number;
  readonly data: Uint8Array;
}

const PNG_MAGIC = Buffer.from([0x89, 0x50, 0x4e, 0x47, 0x0d, 0x0a, 0x1a, 0x0a]);

/**
 * A logo as it is kept: a PNG of our own, made from the pixels of a PNG (ISO/IEC 15948) or JPEG (ISO/IEC 10918-1), scaled
 * down where it is larger than `LOGO_SIZE`. What its name or sender says does not count, and nothing of the file but its
 * pixels is kept. Throws a RangeError that says what is wrong.
 */
export function logoOf(bytes: Buffer): Buffer {
  if (bytes.length > LOGO_BYTES)
    throw new RangeError(
      `The file is larger than ${LOGO_BYTES / 1024} KiB. Save the logo with fewer pixels.`,
    );
  const raster = pixelsOf(bytes);
  const scale = Math.min(1, LOGO_SIZE.width / raster.width, LOGO_SIZE.height / raster.height);
  const small = scale < 1 ? scaled(raster, scale) : raster;
  const png = new PNG({ width: small.width, height: small.height });
  png.data = Buffer.from(small.data);
  return PNG.sync.write(png);
}

function pixelsOf(bytes: Buffer): Raster {
  if (bytes.subarray(0, 8).equals(PNG_MAGIC)) {
    // the head is read before anything is unpacked: few bytes can claim many pixels
    if (bytes.length < 24) throw new RangeError("The PNG file is incomplete.");
    refuseLarge(bytes.readUInt32BE(16), bytes.readUInt32BE(20));
    try {
      return PNG.sync.read(bytes);
    } catch {
      throw new RangeError("The PNG file is damaged. Save the logo again.");
    }
  }
  if (bytes[0] === 0xff && bytes[1] === 0xd8 && bytes[2] === 0xff) {
    try {
      return decode(bytes, {
        useTArray: true,
        maxResolutionInMP: PIXELS / 1e6,
        maxMemoryUsageInMB: 128,
        tolerantDecoding: false,
      });
    } catch (error) {
      if (/maxResolutionInMP|maxMemoryUsage/.test(String(error))) throw tooLarge();
      throw new RangeError("The JPEG file is damaged. Save the logo again.");
    }
  }
  throw new RangeError("The file is neither a PNG nor a JPEG image.");
}

const tooLarge = () =>
  new RangeError(`The image has more than ${PIXELS / 1e6} million pixels. Save the logo with fewer pixels.`);

function refuseLarge(width: number, height: number): void {
  if (width === 0 || height === 0) throw new RangeError("The PNG file is damaged. Save the logo again.");
  if (width * height > PIXELS) throw tooLarge();
}

/** Makes a picture smaller: each pixel is the mean of those that it covers, weighted by their opacity. */
function scaled(from: Raster, scale: number): Raster {
  const width = Math.max(1, Math.round(from.width * scale));
  const height = Math.max(1, Math.round(from.height * scale));
  const data = new Uint8Array(width * height * 4);
  for (let y = 0; y < height; y += 1) {
    const [top, bottom] = covered(y, height, from.height);
    for (let x = 0; x < width; x += 1) {
      const [left, right] = covered(x, width, from.width);
      const sums = [0, 0, 0, 0] as [number, number, number, number];
      for (let row = top; row < bottom; row += 1)
        for (let column = left; column < right; column += 1) {
          const at = (row * from.width + column) * 4;
          const opacity = from.data[at + 3]!;
          for (const part of [0, 1, 2] as const) sums[part] += from.data[at + part]! * opacity;
          sums[3] += opacity;
        }
      const at = (y * width + x) * 4;
      for (const part of [0, 1, 2] as const) data[at + part] = sums[3] ? Math.round(sums[part] / sums[3]) : 0;
      data[at + 3] = Math.round(sums[3] / ((bottom - top) * (right - left)));
    }
  }
  return { width, height, data };
}

/** Which of `all` places one of `parts` covers: from, up to. At least one. */
function covered(part: number, parts: number, all: number): readonly [number, number] {
  const from = Math.floor((part * all) / parts);
  return [from, Math.max(from + 1, Math.floor(((part + 1) * all) / parts))];
}
