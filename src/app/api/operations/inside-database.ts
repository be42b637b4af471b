import { z } from "zod";
import { CodedError } from "@/core/codes";
import { pointById } from "@/db/points/points";
import { sourceById } from "@/db/sources/sources";
import { databaseCatalog, databaseTable } from "@/kinds/inside";
import { type Context, operation } from "@/server/api/operation";
import { notFound, Problem } from "@/server/base/problem";
import * as shape from "../shapes";
import { pointParam } from "./ids";

/** A recovery point of a database; of another kind of source there is nothing to show here. */
const pointOf = (context: Context, pointId: string) =>
  context.tx(async (tx) => {
    const point = await pointById(tx, Buffer.from(pointId, "hex"));
    const source = point && (await sourceById(tx, point.sourceId));
    if (!source) throw notFound();
    if (source.kind !== "database")
      throw new Problem("request.conflict", "This recovery point is not one of a database.");
    return { point, source };
  });

export const insideDatabase = [
  operation({
    id: "readDatabaseInside",
    method: "GET",
    path: "/recovery-points/{pointId}/database",
    summary:
      "A database at a recovery point: its tables with rows and sizes, its extensions, the server's version.",
    caller: "open",
    params: pointParam,
    answer: z.object({ database: shape.insideDatabase }),
    run: async (context, { params }) => {
      const { point } = await pointOf(context, params.pointId);
      const catalog = await databaseCatalog(await context.services.spaces.ofPoint(point), point.root);
      if (!catalog) throw notFound();
      const { access: _, ...database } = catalog;
      return { database };
    },
  }),
  operation({
    id: "readTableInside",
    method: "GET",
    path: "/recovery-points/{pointId}/database/table",
    summary:
      "A table at a recovery point: its definition and first rows, read from the dump without restoring it.",
    caller: "open",
    params: pointParam,
    query: z.object({ schema: z.string().min(1).max(200), name: z.string().min(1).max(200) }),
    answer: z.object({ table: shape.insideTable }),
    run: async (context, { params, query }) => {
      const { point, source } = await pointOf(context, params.pointId);
      const reader = await context.services.spaces.ofPoint(point);
      const table = await databaseTable(reader, point.root, query.schema, query.name).catch((error) => {
        if (error instanceof CodedError && error.code === "file.unreadable")
          throw new Problem(
            "request.conflict",
            `${error.message}. Restore the database under a new name to look at this table.`,
          );
        throw error;
      });
      if (!table) throw notFound();
      await context.tx((tx) =>
        context.record(tx, point.clientId, "viewed rows of a table", source.name, {
          table: `${query.schema}.${query.name}`,
          moment: point.moment,
        }),
      );
      return { table: { ...table, columns: [...table.columns], rows: table.rows.map((row) => [...row]) } };
    },
  }),
];
