import { fileBytes, findEntry } from "@/store/read/browse";
import type { ChunkReader } from "@/store/read/reader";
import { type Catalog, catalogSchema } from "./catalog";
import { lookAtTable, type TableLook } from "./first-rows";
import { CATALOG, DUMP } from "./names";

/** Looking into a recovery point of a database. */

/** Its catalog; null where there is none. */
export async function databaseCatalog(reader: ChunkReader, root: Uint8Array): Promise<Catalog | null> {
  const entry = await findEntry(reader, root, `/${CATALOG}`);
  if (entry?.type !== "file") return null;
  const parts: Buffer[] = [];
  for await (const part of fileBytes(reader, entry, 0, entry.size ?? 0)) parts.push(part);
  return catalogSchema.parse(JSON.parse(Buffer.concat(parts).toString("utf8")));
}

/** The definition and first rows of a table; null where the catalog has none of this name. */
export async function databaseTable(
  reader: ChunkReader,
  root: Uint8Array,
  schema: string,
  name: string,
): Promise<TableLook | null> {
  const catalog = await databaseCatalog(reader, root);
  const dump = await findEntry(reader, root, `/${DUMP}`);
  if (!dump || !catalog?.tables.some((one) => one.schema === schema && one.name === name)) return null;
  return lookAtTable(reader, dump, schema, name);
}
