import { type ComparedLine, compareTexts, imageTypeOf, textOf } from "@/core/text/text";
import { formatBytes } from "@/core/units/bytes";
import type { Tx } from "@/db/base/scope";
import type { Point } from "@/db/points/points";
import { sourceById } from "@/db/sources/sources";
import { fileBytes, findEntry } from "@/store/read/browse";
import type { ChunkReader } from "@/store/read/reader";
import { type ByteString, type Entry, showBytes } from "@/store/tree/tree";
import type { Context } from "../api/operation";
import { notFound, Problem } from "../base/problem";
import type { Services } from "../base/services";

/** Looking inside one file of a recovery point: its text, its picture, and what differs from another version of it. */

const TEXT_SHOWN = 256 * 1024;
const TEXT_COMPARED = 1024 * 1024;
const IMAGE_MOST = 24 * 1024 * 1024;

export type Look =
  | {
      readonly kind: "text";
      readonly text: string;
      readonly encoding: string;
      /** Only the beginning of it is shown. */
      readonly cut: boolean;
      readonly size: number;
    }
  | { readonly kind: "image"; readonly type: string; readonly size: number }
  | { readonly kind: "other"; readonly size: number };

export type Comparison =
  | { readonly kind: "text"; readonly places: readonly (readonly ComparedLine[])[] }
  | { readonly kind: "other"; readonly why: string };

async function fileOf(
  services: Services,
  point: Point,
  path: ByteString,
): Promise<{ reader: ChunkReader; entry: Entry; size: number }> {
  const reader = await services.spaces.at(point, path);
  const entry = await findEntry(reader, point.root, path);
  if (entry?.type !== "file") throw notFound();
  return { reader, entry, size: entry.size ?? 0 };
}

async function bytesOf(reader: ChunkReader, entry: Entry, most: number): Promise<Buffer> {
  const parts: Buffer[] = [];
  for await (const part of fileBytes(reader, entry, 0, Math.min(most, entry.size ?? 0))) parts.push(part);
  return Buffer.concat(parts);
}

/** What is in a file: text (its first 256 KiB), a picture, or neither. */
export async function lookInside(services: Services, point: Point, path: ByteString): Promise<Look> {
  const { reader, entry, size } = await fileOf(services, point, path);
  const cut = size > TEXT_SHOWN;
  const bytes = await bytesOf(reader, entry, TEXT_SHOWN);
  const type = imageTypeOf(bytes);
  if (type) return { kind: size > IMAGE_MOST ? "other" : "image", type, size };
  const text = textOf(bytes, cut);
  return text ? { kind: "text", ...text, cut, size } : { kind: "other", size };
}

/** A picture for the page. What is none, or larger than 24 MiB, is refused: it can be downloaded. */
export async function imageInside(services: Services, point: Point, path: ByteString): Promise<Response> {
  const { reader, entry, size } = await fileOf(services, point, path);
  if (size > IMAGE_MOST)
    throw new Problem(
      "request.conflict",
      `This picture is larger than ${formatBytes(IMAGE_MOST)}. Download it to see it.`,
    );
  const bytes = await bytesOf(reader, entry, IMAGE_MOST);
  const type = imageTypeOf(bytes);
  if (!type) throw new Problem("request.conflict", "The file is not an image that a browser can show.");
  return new Response(new Uint8Array(bytes), {
    headers: { "content-type": type, "cache-control": "private, no-store" },
  });
}

/** What differs in a file between two points. */
export async function compareInside(
  services: Services,
  before: Point,
  after: Point,
  path: ByteString,
): Promise<Comparison> {
  const texts: string[] = [];
  for (const point of [before, after]) {
    const { reader, entry, size } = await fileOf(services, point, path);
    if (size > TEXT_COMPARED)
      return {
        kind: "other",
        why: `Texts of up to ${formatBytes(TEXT_COMPARED)} are compared line by line; this one is larger.`,
      };
    const text = textOf(await bytesOf(reader, entry, TEXT_COMPARED));
    if (!text) return { kind: "other", why: `${showBytes(path).split("/").at(-1)} is no text.` };
    texts.push(text.text);
  }
  const places = compareTexts(texts[0]!, texts[1]!);
  return places
    ? { kind: "text", places }
    : { kind: "other", why: "The texts differ too much for a comparison by line." };
}

/** Puts into the trail that somebody looks into a file. */
export async function describeLook(context: Context, tx: Tx, point: Point, path: ByteString): Promise<void> {
  const source = (await sourceById(tx, point.sourceId))!;
  await context.record(tx, point.clientId, "viewed a file", source.name, {
    path: showBytes(path),
    moment: point.moment,
  });
}
