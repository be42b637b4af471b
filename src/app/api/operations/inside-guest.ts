import { z } from "zod";
import { pointById } from "@/db/points/points";
import { sourceById } from "@/db/sources/sources";
import { insideGuest as readGuest } from "@/kinds/inside";
import { operation } from "@/server/api/operation";
import { notFound, Problem } from "@/server/base/problem";
import * as shape from "../shapes";
import { pointParam } from "./ids";

export const insideGuest = [
  operation({
    id: "readGuestInside",
    method: "GET",
    path: "/recovery-points/{pointId}/guest",
    summary: "A guest at a recovery point: its disks with their partitions and file systems.",
    caller: "open",
    params: pointParam,
    answer: z.object({ guest: shape.insideGuest }),
    run: async (context, { params }) => {
      const point = await context.tx(async (tx) => {
        const found = await pointById(tx, Buffer.from(params.pointId, "hex"));
        const source = found && (await sourceById(tx, found.sourceId));
        if (!source) throw notFound();
        if (source.kind !== "guest")
          throw new Problem("request.conflict", "This recovery point is not one of a guest.");
        return found;
      });
      const guest = await readGuest(await context.services.spaces.ofPoint(point), point.root);
      if (!guest) throw notFound();
      return { guest };
    },
  }),
];
