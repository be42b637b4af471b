"use client";

import type { Where } from "@/core/policy/where";
import { FieldGroup, SelectField, TextField } from "../parts/form";

/** The clause Where as it is typed. */
export interface WhereDraft {
  readonly depotId: string;
  readonly beside: readonly string[];
  readonly atOnce: string;
  readonly carryTo: readonly string[];
  readonly whenAway: Where["whenAway"];
}

export const whereDraft = (clause: Where | undefined, firstDepot: string): WhereDraft => ({
  depotId: clause?.depotId ?? firstDepot,
  beside: clause?.beside ?? [],
  atOnce: String(clause?.atOnce ?? 2),
  carryTo: clause?.carryTo ?? [],
  whenAway: clause?.whenAway ?? "wait",
});

/** What was typed as a clause; the first depot is no further place, whatever it was before. */
export function whereOf(draft: WhereDraft, number: (text: string) => number): unknown {
  const without = (ids: readonly string[]) => ids.filter((id) => id !== draft.depotId);
  const beside = without(draft.beside);
  const carryTo = without(draft.carryTo);
  return {
    depotId: draft.depotId,
    beside,
    carryTo,
    atOnce: number(draft.atOnce),
    whenAway: beside.length + carryTo.length ? draft.whenAway : "wait",
  };
}

type Way = "none" | "beside" | "carryTo";

export function WhereFields({
  draft,
  set,
  errorOf,
  depots,
}: {
  draft: WhereDraft;
  set: (change: Partial<WhereDraft>) => void;
  errorOf: (field: string) => string | undefined;
  depots: readonly { readonly id: string; readonly name: string }[];
}) {
  const others = depots.filter((depot) => depot.id !== draft.depotId);
  const wayOf = (id: string): Way =>
    draft.beside.includes(id) ? "beside" : draft.carryTo.includes(id) ? "carryTo" : "none";
  const setWay = (id: string, way: Way) => {
    const without = (ids: readonly string[]) => ids.filter((one) => one !== id);
    set({
      beside: way === "beside" ? [...without(draft.beside), id] : without(draft.beside),
      carryTo: way === "carryTo" ? [...without(draft.carryTo), id] : without(draft.carryTo),
    });
  };
  const beside = others.filter((depot) => wayOf(depot.id) === "beside").length;
  const further = others.some((depot) => wayOf(depot.id) !== "none");
  return (
    <div className="grid gap-3">
      <SelectField
        label="Depot"
        error={errorOf("where.depotId")}
        value={draft.depotId}
        onChange={(event) => set({ depotId: event.target.value })}
      >
        {depots.length === 0 && <option value="">No depot is granted to this client</option>}
        {depots.map((depot) => (
          <option key={depot.id} value={depot.id}>
            {depot.name}
          </option>
        ))}
      </SelectField>
      <FieldGroup className="grid gap-3" error={errorOf("where.beside") ?? errorOf("where.carryTo")}>
        {others.map((depot) => (
          <SelectField
            key={depot.id}
            label={`And ${depot.name}`}
            value={wayOf(depot.id)}
            onChange={(event) => setWay(depot.id, event.target.value as Way)}
          >
            <option value="none">holds nothing of this</option>
            <option value="beside">is written by the same run</option>
            <option value="carryTo">gets each point carried over after its run</option>
          </SelectField>
        ))}
      </FieldGroup>
      {further && (
        <div className="grid grid-cols-[1fr_1.6fr] gap-3">
          {beside > 0 && (
            <TextField
              label="Written at the same time"
              error={errorOf("where.atOnce")}
              help="Number of depots that are written at the same time. The others are then copied from one of these."
              inputMode="numeric"
              value={draft.atOnce}
              onChange={(event) => set({ atOnce: event.target.value })}
            />
          )}
          <SelectField
            label="During a planned absence of the first"
            error={errorOf("where.whenAway")}
            value={draft.whenAway}
            onChange={(event) => set({ whenAway: event.target.value as Where["whenAway"] })}
          >
            <option value="wait">runs wait until it is back</option>
            <option value="others">runs go to the others, and it is caught up</option>
          </SelectField>
        </div>
      )}
      <p className="text-soft">
        {further
          ? "A failed depot does not affect the others: the run continues, and the depot is caught up afterwards. A restore reads the nearest whole place and falls back to the next; a check mends one from another."
          : "Single location: one fire destroys all copies. Grant the client a second depot for a second copy."}
      </p>
    </div>
  );
}
