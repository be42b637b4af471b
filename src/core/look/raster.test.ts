import fc from "fast-check";
import { encode } from "jpeg-js";
import { PNG } from "pngjs";
import { describe, expect, it } from "vitest";
import { LOGO_BYTES, LOGO_SIZE, logoOf } from "./raster";

const RED = [200, 30, 30, 255] as const;
function pngOf(width: number, height: number, pixel: readonly number[] = RED): Buffer {
  const png = new PNG({ width, height });
  for (let at = 0; at < png.data.length; at += 4) png.data.set(pixel, at);
  return PNG.sync.write(png);
}

describe("a logo", () => {
  it("is kept as a PNG with the same pixels, without what else the file had", () => {
    // a text chunk before the end, as drawing programs write it
    const plain = pngOf(40, 20);
    const text = Buffer.from("tEXtComment\0made by somebody at a desk");
    const chunk = Buffer.alloc(text.length + 8);
    chunk.writeUInt32BE(text.length - 4, 0);
    text.copy(chunk, 4);
    const end = plain.length - 12;
    const told = Buffer.concat([plain.subarray(0, end), chunk, plain.subarray(end)]);
    const kept = logoOf(plain);
    expect(PNG.sync.read(kept)).toMatchObject({ width: 40, height: 20 });
    expect([...PNG.sync.read(kept).data.subarray(0, 4)]).toEqual([...RED]);
    expect(told.includes("somebody")).toBe(true);
    expect(kept.includes("somebody")).toBe(false);
  });

  it("may be a JPEG, and is made smaller in its proportions", () => {
    const data = Buffer.alloc(1600 * 400 * 4);
    for (let at = 0; at < data.length; at += 4) data.set(RED, at);
    const kept = PNG.sync.read(logoOf(encode({ data, width: 1600, height: 400 }, 90).data));
    expect([kept.width, kept.height]).toEqual([LOGO_SIZE.width, 160]);
    for (const [i, part] of RED.entries()) expect(Math.abs(kept.data[i]! - part)).toBeLessThan(8);
  });

  it("keeps see-through edges see-through when it is made smaller", () => {
    const png = new PNG({ width: 1280, height: 100 });
    for (let at = 0; at < png.data.length; at += 4) png.data.set(at % 8 ? RED : [0, 0, 0, 0], at);
    const kept = PNG.sync.read(logoOf(PNG.sync.write(png)));
    // half of the pixels have no colour: it does not darken the others
    expect([...kept.data.subarray(0, 3)]).toEqual([200, 30, 30]);
    expect(kept.data[3]).toBe(128);
  });

  it("is an image by its bytes, whatever it is called; what is none, damaged or too large is refused", () => {
    const damaged = pngOf(40, 20);
    damaged.writeUInt8(damaged.readUInt8(60) ^ 0xff, 60);
    const cases: [Buffer, RegExp][] = [
      [Buffer.from("<svg xmlns='http://www.w3.org/2000/svg'><script>alert(1)</script></svg>"), /neither/],
      [Buffer.from("GIF89a"), /neither/],
      [Buffer.alloc(0), /neither/],
      [damaged, /damaged/],
      [pngOf(40, 20).subarray(0, 50), /damaged/],
      [pngOf(40, 20).subarray(0, 12), /incomplete/],
      [Buffer.from([0xff, 0xd8, 0xff, 0xe0, 1, 2, 3]), /JPEG file is damaged/],
      [Buffer.alloc(LOGO_BYTES + 1), /512 KiB/],
    ];
    for (const [bytes, why] of cases) expect(() => logoOf(bytes)).toThrow(why);
  });

  it("claims no more pixels than it is allowed, however small the file is", () => {
    const bomb = pngOf(1, 1);
    bomb.writeUInt32BE(0x7fffffff, 16);
    expect(() => logoOf(bomb)).toThrow(/pixels/);
  });

  it("is refused with a sentence or kept as a PNG, whatever the bytes are", () => {
    const good = [
      pngOf(30, 10),
      encode({ data: Buffer.alloc(30 * 10 * 4, 90), width: 30, height: 10 }, 80).data,
    ];
    fc.assert(
      fc.property(
        fc.constantFrom(...good),
        fc.array(fc.tuple(fc.nat(), fc.nat(255)), { maxLength: 6 }),
        (file, edits) => {
          const bytes = Buffer.from(file);
          for (const [at, value] of edits) bytes[at % bytes.length] = value;
          try {
            expect(PNG.sync.read(logoOf(bytes)).width).toBeGreaterThan(0);
          } catch (error) {
            expect(error).toBeInstanceOf(RangeError);
          }
        },
      ),
      { numRuns: 300 },
    );
  });
});
