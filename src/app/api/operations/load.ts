import { z } from "zod";
import { RuleError } from "@/core/schedule/rule";
import { shiftRule } from "@/core/schedule/shift";
import { readProvider } from "@/db/clients/clients";
import { policyById } from "@/db/sources/policies";
import { operation } from "@/server/api/operation";
import { invalid } from "@/server/base/problem";
import { weekOf } from "@/server/policies/load";
import { nextRevision, saveRules } from "@/server/policies/policy-saving";
import * as shape from "../shapes";
import { filterOf, scopeQuery, uuid } from "./ids";

/** The week over all clients, and moving schedules in it. */
export const load = [
  operation({
    id: "readLoad",
    method: "GET",
    path: "/load",
    summary: "The planned runs of a week: times, durations and depots by source.",
    caller: "look",
    query: scopeQuery,
    answer: z.object({
      monday: shape.moment,
      groups: shape.list(shape.loadGroup),
      depots: shape.list(shape.loadDepot),
      zone: z.string(),
    }),
    run: (context, { query }) =>
      context.tx(async (tx) => {
        const zone = (await readProvider(tx))?.zone ?? "UTC";
        return { zone, ...(await weekOf(tx, filterOf(query), zone, context.who.at)) };
      }),
  }),
  operation({
    id: "moveSchedules",
    method: "POST",
    path: "/load/moves",
    summary: "Move schedules of policies by some minutes. Each is saved as a change of the clause When.",
    caller: "work",
    body: z.object({
      moves: z
        .array(
          z.object({
            policyId: uuid,
            minutes: z
              .number()
              .int("Whole minutes.")
              .min(-1439, "Less than a day.")
              .max(1439, "Less than a day."),
          }),
        )
        .min(1, "Move something first.")
        .max(500),
    }),
    answer: z.object({
      moved: shape.list(z.object({ policyId: z.string(), name: z.string(), minutes: z.number() })),
    }),
    run: (context, { body }) =>
      context.tx(async (tx) => {
        const moved = [];
        for (const [i, { policyId, minutes }] of body.moves.entries()) {
          const policy = await policyById(tx, policyId);
          const when = policy?.clauses.when;
          if (!policy || !when)
            throw invalid(
              `moves.${i}.policyId`,
              "This policy is not there, or has its schedule from elsewhere.",
            );
          try {
            const schedules = when.schedules.map((one) => ({ ...one, rule: shiftRule(one.rule, minutes) }));
            const clauses = { ...policy.clauses, when: { ...when, schedules } };
            const wished = nextRevision(policy, context.who, { clauses, pins: policy.pins });
            await saveRules(tx, context.who, context.person, wished, `moved by ${minutes} minutes in Load`);
            moved.push({ policyId, name: policy.name, minutes });
          } catch (error) {
            if (error instanceof RuleError)
              throw invalid(`moves.${i}.minutes`, `${policy.name}: ${error.message}`);
            throw error;
          }
        }
        return { moved };
      }),
  }),
];
