import { PNG } from "pngjs";
import type { Chance } from "./chance";

type Colour = readonly [number, number, number];
const mix = (a: Colour, b: Colour, share: number): Colour => [
  a[0] + (b[0] - a[0]) * share,
  a[1] + (b[1] - a[1]) * share,
  a[2] + (b[2] - a[2]) * share,
];

/** The grain of a small camera: a made-up photo takes as much room as one, and no two are alike. */
const GRAIN = 14;

/** A made-up photo of a coast, as a PNG: sky with a sun, hills, and water below them. */
export function coast(chance: Chance): Buffer {
  const width = 120 + chance.below(60);
  const height = Math.round(width * 0.7);
  const png = new PNG({ width, height, colorType: 2 });
  const hue = () => chance.below(60);
  const [high, low]: Colour[] = [
    [70 + hue(), 110 + hue(), 160 + hue()],
    [200 + hue() / 2, 190 + hue() / 2, 160 + hue()],
  ];
  const land: Colour = [50 + hue(), 80 + hue(), 50 + hue() / 2];
  const water: Colour = [30 + hue() / 2, 80 + hue(), 110 + hue()];
  const shore = height * (0.55 + chance.next() * 0.2);
  const sun = { x: chance.below(width), y: chance.below(Math.round(height * 0.3)), r: 5 + chance.below(8) };
  const waves = Array.from({ length: 3 }, () => ({
    length: 12 + chance.below(50),
    lift: 2 + chance.below(9),
    at: chance.next() * 6,
  }));
  const hillAt = (x: number) =>
    shore - 8 - waves.reduce((sum, { length, lift, at }) => sum + lift * Math.sin(x / length + at), 0);
  for (let y = 0; y < height; y += 1)
    for (let x = 0; x < width; x += 1) {
      const sky = mix(high!, low!, y / shore);
      const inSun = (x - sun.x) ** 2 + (y - sun.y) ** 2 < sun.r ** 2;
      const colour =
        y > shore
          ? mix(water, sky, Math.sin(y * 1.7 + x / 9) > 0.8 ? 0.5 : 0.1)
          : y > hillAt(x)
            ? land
            : inSun
              ? ([255, 244, 214] as const)
              : sky;
      const grain = chance.below(GRAIN) - GRAIN / 2;
      const place = (y * width + x) * 4;
      colour.forEach((value, i) => {
        png.data[place + i] = Math.max(0, Math.min(255, Math.round(value + grain)));
      });
      png.data[place + 3] = 255;
    }
  return PNG.sync.write(png, { colorType: 2, inputHasAlpha: true });
}

/** A made-up logo, as a PNG with a see-through ground: a loaf with three cuts. */
export function loaf(colour: string): Buffer {
  const [width, height] = [300, 150];
  const png = new PNG({ width, height });
  const parts = [1, 3, 5].map((at) => Number.parseInt(colour.slice(at, at + 2), 16));
  for (let y = 0; y < height; y += 1)
    for (let x = 0; x < width; x += 1) {
      const [across, up] = [(x - width / 2) / (width / 2 - 4), (height - 8 - y) / (height - 16)];
      const inside = up >= 0 && Math.abs(across) ** 3 + up ** 2.2 < 1;
      const cut =
        [-0.45, 0, 0.45].some((at) => Math.abs(across - at - (up - 0.6) * 0.18) < 0.035) && up > 0.35;
      png.data.set(inside && !cut ? [...parts, 255] : [0, 0, 0, 0], (y * width + x) * 4);
    }
  return PNG.sync.write(png);
}
