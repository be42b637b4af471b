import { IMAGE_FORMATS } from "@/core/units/download-formats";
import type { Point } from "@/db/points/points";
import { type Qcow2, qcow2Of } from "@/disks/qcow2";
import { findEntry } from "@/store/read/browse";
import { StoredDisk } from "@/store/read/disk";
import type { ByteString } from "@/store/tree/tree";
import { invalid, notFound } from "../base/problem";
import type { Services } from "../base/services";

export type ImageFormat = (typeof IMAGE_FORMATS)[number];
export const isImage = (format: string): format is ImageFormat =>
  (IMAGE_FORMATS as readonly string[]).includes(format);

export const refuseForImage = () =>
  invalid("format", "A disk image contains one disk. Select a single disk, or choose ZIP or TAR.");

/** The image of the one disk that was chosen. Throws a problem of the field where it is none. */
export async function imageOf(
  services: Services,
  [item, ...others]: readonly { readonly point: Point; readonly path: ByteString }[],
  passed?: (bytes: number) => void,
): Promise<Qcow2> {
  if (!item || others.length > 0) throw refuseForImage();
  const { point, path } = item;
  const reader = await services.spaces.ofPoint(point);
  const entry = path === "/" ? null : await findEntry(reader, point.root, path);
  if (path !== "/" && !entry) throw notFound();
  if (!entry?.chunkBytes) throw refuseForImage();
  return qcow2Of(await StoredDisk.open(reader, entry), passed);
}
