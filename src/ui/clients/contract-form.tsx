"use client";

import { useRouter } from "next/navigation";
import { type ReactNode, useState } from "react";
import { CONTRACT_KINDS, type Contract, type ContractKind } from "@/core/usage/contract";
import { KINDS } from "@/kinds";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";

export type ContractDraft = Readonly<Record<ContractKind, string>>;
export const draftOf = (contract: Contract): ContractDraft =>
  Object.fromEntries(CONTRACT_KINDS.map((kind) => [kind, String(contract[kind] ?? "")])) as ContractDraft;
/** What was typed, for the API: it says what is no number. */
export const contractOf = (draft: ContractDraft) =>
  Object.fromEntries(
    CONTRACT_KINDS.filter((kind) => draft[kind].trim() !== "").map((kind) => [
      kind,
      /^\d+$/.test(draft[kind].trim()) ? Number(draft[kind]) : draft[kind],
    ]),
  );

const labelOf = (kind: ContractKind): string => {
  const { many } = KINDS[kind].unit;
  return `${many[0]!.toUpperCase()}${many.slice(1)} (contracted)`;
};

export function ContractFields({
  draft,
  set,
  errorOf,
}: {
  draft: ContractDraft;
  set: (draft: ContractDraft) => void;
  errorOf: (field: string) => string | undefined;
}) {
  return (
    <div className="grid grid-cols-2 gap-3">
      {CONTRACT_KINDS.map((kind) => (
        <TextField
          key={kind}
          label={labelOf(kind)}
          help="Number in the client's contract. Watch shows a cause when more are protected. Empty: no limit."
          inputMode="numeric"
          value={draft[kind]}
          error={errorOf(kind)}
          onChange={(event) => set({ ...draft, [kind]: event.target.value })}
        />
      ))}
    </div>
  );
}

/** A client's row in Usage with a button that opens a form below it: what the client has bought. */
export function ContractRow({
  client,
  contract,
  children,
  columns,
}: {
  client: { readonly id: string; readonly name: string };
  contract: Contract;
  /** Its cells before the button. */
  children: ReactNode;
  /** How many cells the row has, with the button's. */
  columns: number;
}) {
  const router = useRouter();
  const sending = useSending();
  const [open, setOpen] = useState(false);
  const [draft, setDraft] = useState(draftOf(contract));
  const save = () =>
    sending.send(async () => {
      await callApi("PUT", `/clients/${client.id}/contract`, contractOf(draft));
      say.success(`Contract of ${client.name} saved.`);
      setOpen(false);
      router.refresh();
    });
  return (
    <>
      <tr>
        {children}
        <td className="text-right">
          <button
            type="button"
            className="text-primary underline"
            aria-expanded={open}
            aria-label={open ? `Cancel: contract of ${client.name}` : `Change the contract of ${client.name}`}
            onClick={() => setOpen(!open)}
          >
            {open ? "Cancel" : "Change…"}
          </button>
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={columns}>
            <form
              className="grid max-w-[560px] gap-3 py-2"
              onSubmit={(event) => {
                event.preventDefault();
                void save();
              }}
            >
              <ContractFields draft={draft} set={setDraft} errorOf={sending.errorOf} />
              <Refusal problem={sending.problem?.errors.length ? null : sending.problem} />
              <div>
                <button type="submit" className="btn btn-primary" disabled={sending.busy}>
                  Save contract
                </button>
              </div>
            </form>
          </td>
        </tr>
      )}
    </>
  );
}
