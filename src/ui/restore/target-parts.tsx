"use client";

import { useRouter } from "next/navigation";
import { type ReactNode, useState } from "react";
import { counted } from "@/core/units/duration";
import type { Volume } from "@/core/units/volumes";
import { callApi } from "../parts/api";
import { Refusal, SelectField, TextField, useSending } from "../parts/form";
import { Radio } from "../parts/radio";
import { say } from "../parts/say";
import { askedItems, type BasketItem, type Weight } from "./basket";

/** A machine that things can be restored to, with what it last said of its volumes. */
export interface RestoreMachine {
  readonly id: string;
  readonly name: string;
  readonly volumes: readonly Volume[];
  /** When it said so, in words. */
  readonly said: string;
}

/** A source of the same kind that items can be restored to over the network. */
export interface RestoreSource {
  readonly id: string;
  readonly name: string;
  readonly connectionName: string;
}

/** What the target of every kind is given. */
export interface TargetProps {
  readonly source: {
    readonly id: string;
    readonly name: string;
    readonly kind: string;
    readonly machineId: string | null;
    readonly machineName: string | null;
    /** It can be reached, and takes things back. */
    readonly reachable: boolean;
  };
  readonly clientName: string;
  readonly machines: readonly RestoreMachine[];
  readonly sources: readonly RestoreSource[];
  readonly basket: readonly BasketItem[];
  readonly setBasket: (basket: readonly BasketItem[]) => void;
  readonly weight: Weight | null;
  readonly zone: string;
  readonly runsBase: string;
}

const FORMATS = {
  zip: { name: "ZIP", words: "a ZIP archive" },
  tar: { name: "TAR", words: "a TAR archive" },
  mbox: { name: "mbox", words: "an mbox file: messages only, without flags" },
  ics: { name: "ICS", words: "an ICS file: calendar entries only" },
  vcf: { name: "VCF", words: "a VCF file: contacts only" },
  qcow2: { name: "qcow2", words: "a qcow2 disk image" },
} as const;
export type DownloadFormat = keyof typeof FORMATS;

/** Sends a basket on its way: to a destination as a run, or to the browser. */
export function useRestore({ basket, setBasket, runsBase }: TargetProps) {
  const router = useRouter();
  const sending = useSending();
  const items = askedItems(basket);
  return {
    sending,
    restore: (destination: object, clash: string) =>
      sending.send(async () => {
        const { run } = await callApi<{ run: { id: string } }>("POST", "/restores", {
          items,
          destination,
          clash,
        });
        say.success("Restore requested", {
          action: { label: "Open run", onClick: () => router.push(`${runsBase}/runs?sel=${run.id}`) },
        });
        setBasket([]);
        router.refresh();
      }),
    download: (format: DownloadFormat) =>
      sending.send(async () => {
        const { url } = await callApi<{ url: string }>("POST", "/restores/archives", { items, format });
        window.location.assign(url);
        say.success("The download begins.");
      }),
  };
}

/** One of the places that a basket can go to. */
export function Choice({
  chosen,
  choose,
  children,
}: {
  chosen: boolean;
  choose: () => void;
  children: ReactNode;
}) {
  return (
    <label className="flex items-center gap-2">
      <Radio name="destination" size="xs" checked={chosen} choose={choose} />
      {children}
    </label>
  );
}

/** What becomes of a file whose name is taken. */
export type Clash = "keep-both" | "replace" | "skip";
const CLASHES: readonly (readonly [Clash, string])[] = [
  ["keep-both", "Keep both"],
  ["replace", "Replace"],
  ["skip", "Skip"],
];
export const CLASH_WORDS: Readonly<Record<Clash, string>> = {
  "keep-both":
    "Existing files are kept. A restored file with an existing name gets its date and time in its name.",
  replace: "Existing files with the same name are replaced.",
  skip: "Where names meet, the restored one is left out.",
};

export function ClashChoice({ clash, setClash }: { clash: Clash; setClash: (clash: Clash) => void }) {
  return (
    <fieldset>
      <legend className="mb-1 font-semibold">If a file already exists</legend>
      <div className="flex gap-2">
        {CLASHES.map(([value, label]) => (
          <button
            key={value}
            type="button"
            className={`btn h-[30px] min-h-[30px] ${clash === value ? "btn-primary" : "btn-plain"}`}
            aria-pressed={clash === value}
            onClick={() => setClash(value)}
          >
            {label}
          </button>
        ))}
      </div>
    </fieldset>
  );
}

export function DownloadChoice({
  chosen,
  choose,
  formats = ["zip", "tar"],
  format,
  setFormat,
}: {
  chosen: boolean;
  choose: () => void;
  formats?: readonly DownloadFormat[];
  format: DownloadFormat;
  setFormat: (format: DownloadFormat) => void;
}) {
  return (
    <Choice chosen={chosen} choose={choose}>
      Download
      <select
        className="select ml-1 h-[28px] w-[84px]"
        aria-label="Format of the download"
        value={format}
        disabled={!chosen}
        onChange={(event) => setFormat(event.target.value as DownloadFormat)}
      >
        {formats.map((id) => (
          <option key={id} value={id}>
            {FORMATS[id].name}
          </option>
        ))}
      </select>
    </Choice>
  );
}
export const formatWords = (format: DownloadFormat): string => FORMATS[format].words;

/** A machine and a folder on it, as a path. */
export function MachineFields({
  machines,
  machineId,
  setMachineId,
  folder,
  setFolder,
  sending,
}: {
  machines: readonly RestoreMachine[];
  machineId: string;
  setMachineId: (id: string) => void;
  folder: string;
  setFolder: (folder: string) => void;
  sending: ReturnType<typeof useSending>;
}) {
  return (
    <div className="grid gap-2 pl-6">
      <SelectField
        label="Machine"
        error={sending.errorOf("destination.machineId")}
        value={machineId}
        onChange={(event) => setMachineId(event.target.value)}
      >
        {machines.map((machine) => (
          <option key={machine.id} value={machine.id}>
            {machine.name}
          </option>
        ))}
      </SelectField>
      <TextField
        label="Folder"
        error={sending.errorOf("destination.folder")}
        mono
        value={folder}
        onChange={(event) => setFolder(event.target.value)}
      />
    </div>
  );
}

/** Where items go as files: to a folder of a machine, or to the browser. */
export function useFileDestinations(machines: readonly RestoreMachine[]) {
  const [machineId, setMachineId] = useState(machines[0]?.id ?? "");
  const [folder, setFolder] = useState("/restored");
  const [format, setFormat] = useState<DownloadFormat>("zip");
  const machineName = machines.find((one) => one.id === machineId)?.name;
  return { machineId, setMachineId, folder, setFolder, format, setFormat, machineName };
}

/** The choices that go with them. */
export function FileDestinations({
  chosen,
  choose,
  machines,
  files,
  formats,
  sending,
}: {
  chosen: string;
  choose: (destination: "machine" | "download") => void;
  machines: readonly RestoreMachine[];
  files: ReturnType<typeof useFileDestinations>;
  formats?: readonly DownloadFormat[];
  sending: ReturnType<typeof useSending>;
}) {
  return (
    <>
      {machines.length > 0 && (
        <Choice chosen={chosen === "machine"} choose={() => choose("machine")}>
          Files on a machine
        </Choice>
      )}
      {chosen === "machine" && <MachineFields {...files} machines={machines} sending={sending} />}
      <DownloadChoice
        {...files}
        chosen={chosen === "download"}
        choose={() => choose("download")}
        {...(formats ? { formats } : {})}
      />
    </>
  );
}

/** Connections of the client that sources of this kind can be restored to, by name, and the source's own one. */
export function useConnections({ source, sources }: Pick<TargetProps, "source" | "sources">) {
  const connections = [...new Map(sources.map((one) => [one.connectionName, one])).values()];
  const own = sources.find((one) => one.id === source.id);
  const [chosen, choose] = useState(own?.connectionName ?? connections[0]?.connectionName ?? "");
  // the source itself stands for its own connection
  const on = own?.connectionName === chosen ? own : connections.find((one) => one.connectionName === chosen);
  return { connections, chosen, choose, sourceId: on?.id };
}

/** A source of the same kind that items go to, and a folder in it; without one they go to their own folders. */
export function useOtherSource({ source, sources }: Pick<TargetProps, "source" | "sources">) {
  const [sourceId, setSourceId] = useState(source.reachable ? source.id : (sources[0]?.id ?? ""));
  const [folder, setFolder] = useState("");
  const names = folder
    .split("/")
    .map((name) => name.trim())
    .filter(Boolean);
  return {
    sources,
    sourceId,
    setSourceId,
    folder,
    setFolder,
    name: sources.find((one) => one.id === sourceId)?.name,
    /** For the request. */
    target: { kind: "source", sourceId, ...(names.length ? { folder: names.join("/") } : {}) },
    folderWords: names.length ? `the folder ${names.join(" / ")}` : "the original folders",
  };
}

export function OtherSource({
  other,
  label,
  sending,
}: {
  other: ReturnType<typeof useOtherSource>;
  label: string;
  sending: ReturnType<typeof useSending>;
}) {
  const connections = [...new Set(other.sources.map((one) => one.connectionName))].sort();
  return (
    <div className="grid gap-2 pl-6">
      <SelectField
        label={label}
        error={sending.errorOf("destination.sourceId")}
        value={other.sourceId}
        onChange={(event) => other.setSourceId(event.target.value)}
      >
        {connections.map((connection) => (
          <optgroup key={connection} label={connection}>
            {other.sources
              .filter((one) => one.connectionName === connection)
              .map((one) => (
                <option key={one.id} value={one.id}>
                  {one.name}
                </option>
              ))}
          </optgroup>
        ))}
      </SelectField>
      <TextField
        label="Folder (optional)"
        placeholder="Restored/November"
        help="Names separated by slashes. Folders that do not exist are created. Leave the field empty to use the original folders."
        error={sending.errorOf("destination.folder")}
        value={other.folder}
        onChange={(event) => other.setFolder(event.target.value)}
      />
    </div>
  );
}

/** Where something new is created, and what it is called. */
export function NewElsewhere({
  where,
  label,
  nameLabel,
  name,
  setName,
  sending,
  children,
}: {
  where: ReturnType<typeof useConnections>;
  label: string;
  nameLabel: string;
  name: string;
  setName: (name: string) => void;
  sending: ReturnType<typeof useSending>;
  children?: ReactNode;
}) {
  return (
    <div className="grid gap-2 pl-6">
      <SelectField
        label={label}
        error={sending.errorOf("destination.sourceId")}
        value={where.chosen}
        onChange={(event) => where.choose(event.target.value)}
      >
        {where.connections.map((one) => (
          <option key={one.id} value={one.connectionName}>
            {one.connectionName}
          </option>
        ))}
      </SelectField>
      <TextField
        label={nameLabel}
        mono
        error={sending.errorOf("destination.folder")}
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      {children}
    </div>
  );
}

/** The refusal that is about no field of the destination, and the buttons. */
export function RestoreButtons({
  verb,
  words,
  basket,
  setBasket,
  weight,
  sending,
  send,
}: Pick<TargetProps, "basket" | "setBasket" | "weight"> & {
  verb: "Restore" | "Download";
  words: { readonly item: string; readonly items: string };
  sending: ReturnType<typeof useSending>;
  send: () => void;
}) {
  const ofField = sending.problem?.errors.some((error) => error.field.startsWith("destination."));
  return (
    <>
      <Refusal problem={ofField ? null : sending.problem} />
      <div className="flex gap-2">
        <button
          type="button"
          className="btn btn-primary"
          disabled={basket.length === 0 || sending.busy}
          onClick={send}
          data-restore
        >
          {verb} {basket.length > 0 && weight ? counted(weight.files, words.item, words.items) : ""}
        </button>
        <button
          type="button"
          className="btn btn-plain"
          disabled={basket.length === 0}
          onClick={() => setBasket([])}
        >
          Empty basket
        </button>
      </div>
    </>
  );
}
