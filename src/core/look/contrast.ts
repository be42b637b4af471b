/** A colour of sRGB as six hexadecimal digits: `#2f5d62`. */
export const COLOUR_TEXT = /^#[0-9a-f]{6}$/;

/** Text of this contrast or more is readable for most people (WCAG 2.2, 1.4.3). */
export const READABLE = 4.5;

/** Relative luminance of a colour, 0 (black) to 1 (white); WCAG 2.2, “relative luminance”. */
export function luminance(colour: string): number {
  const [red, green, blue] = [1, 3, 5].map((at) => {
    const part = Number.parseInt(colour.slice(at, at + 2), 16) / 255;
    return part <= 0.04045 ? part / 12.92 : ((part + 0.055) / 1.055) ** 2.4;
  }) as [number, number, number];
  return 0.2126 * red + 0.7152 * green + 0.0722 * blue;
}

/** The contrast of two colours, 1 (the same) to 21 (black on white); WCAG 2.2, “contrast ratio”. */
export function contrast(one: string, other: string): number {
  const [a, b] = [luminance(one), luminance(other)];
  return (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
}
