"use client";

import { X } from "lucide-react";
import { useRouter } from "next/navigation";
import { useEffect, useState } from "react";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { type Volume, volumeOf } from "@/core/units/volumes";
import { callApi } from "../parts/api";
import { Refusal, SelectField, TextField, useSending } from "../parts/form";
import { clockText } from "../parts/moment";
import { say } from "../parts/say";

export interface BasketItem {
  readonly pointId: string;
  readonly moment: Date;
  readonly path: string;
  readonly name: string;
  readonly type: "file" | "folder" | "link";
  readonly size: number | null;
}

type Destination = "original" | "folder" | "download";
type Clash = "keep-both" | "replace" | "skip";
const CLASHES: readonly (readonly [Clash, string])[] = [
  ["keep-both", "Keep both"],
  ["replace", "Replace"],
  ["skip", "Skip"],
];
const parentOf = (path: string): string => path.slice(0, path.lastIndexOf("/")) || "/";

/** A machine that things can be restored to, with what it last said of its volumes. */
export interface RestoreMachine {
  readonly id: string;
  readonly name: string;
  readonly volumes: readonly Volume[];
  /** When it said so, in words. */
  readonly said: string;
}

interface TargetProps {
  readonly source: {
    readonly id: string;
    readonly name: string;
    readonly machineId: string | null;
    readonly machineName: string | null;
  };
  readonly clientName: string;
  readonly machines: readonly RestoreMachine[];
  readonly basket: readonly BasketItem[];
  readonly setBasket: (basket: readonly BasketItem[]) => void;
  readonly zone: string;
  readonly runsBase: string;
  readonly tell: (error: unknown) => void;
}

/** The basket, where it goes, and what will happen in one sentence before the button. */
export function RestoreTarget({
  source,
  clientName,
  machines,
  basket,
  setBasket,
  zone,
  runsBase,
}: TargetProps) {
  const router = useRouter();
  const sending = useSending();
  const [destination, setDestination] = useState<Destination>(source.machineId ? "original" : "folder");
  const [machineId, setMachineId] = useState(source.machineId ?? machines[0]?.id ?? "");
  const [folder, setFolder] = useState("/restored");
  const [clash, setClash] = useState<Clash>("keep-both");
  const [format, setFormat] = useState<"zip" | "tar">("zip");
  const [weight, setWeight] = useState<{ files: number; bytes: number } | null>(null);
  const items = basket.map(({ pointId, path }) => ({ pointId, path }));
  const asked = JSON.stringify(items);
  useEffect(() => {
    setWeight(null);
    if (asked === "[]") return;
    let current = true;
    callApi<{ files: number; bytes: number }>("POST", "/restores/weight", { items: JSON.parse(asked) }).then(
      (answer) => current && setWeight(answer),
      () => {},
    );
    return () => {
      current = false;
    };
  }, [asked]);
  const moments = [...new Set(basket.map((item) => item.pointId))];
  const restore = () =>
    sending.send(async () => {
      if (destination === "download") {
        const { url } = await callApi<{ url: string }>("POST", "/restores/archives", { items, format });
        window.location.assign(url);
        say.success("The download begins.");
        return;
      }
      const target =
        destination === "original" ? { kind: "original" } : { kind: "folder", folder, machineId };
      const { run } = await callApi<{ run: { id: string } }>("POST", "/restores", {
        items,
        destination: target,
        clash,
      });
      say.success("Restore requested", {
        action: { label: "Open run", onClick: () => router.push(`${runsBase}/runs?sel=${run.id}`) },
      });
      setBasket([]);
      router.refresh();
    });
  const machineName = machines.find((machine) => machine.id === machineId)?.name ?? source.machineName;
  const size = weight ? `${counted(weight.files, "file")}, ${formatBytes(weight.bytes)}` : "…";
  const first = basket[0];
  const from =
    first && moments.length === 1
      ? `from ${clockText(first.moment, zone)}`
      : `from ${moments.length} moments`;
  const places = [...new Set(basket.map((item) => parentOf(item.path)))];
  const machine = machines.find(
    (one) => one.id === (destination === "original" ? source.machineId : machineId),
  );
  const rooms = [
    ...new Set(
      (destination === "original" ? places : destination === "folder" ? [folder] : []).flatMap(
        (path) => (machine && volumeOf(machine.volumes, path)) ?? [],
      ),
    ),
  ];
  const tight = weight !== null && rooms.some((room) => room.free < weight.bytes);
  const clashText = {
    "keep-both":
      "Existing files are kept. A restored file with an existing name gets its date and time in its name.",
    replace: "Existing files with the same name are replaced.",
    skip: "Where names meet, the restored one is left out.",
  }[clash];
  return (
    <>
      <h2 className="part-title">Where to</h2>
      <section aria-label="Basket">
        <h3>
          <b>Basket</b>
          <span className="text-soft">
            {" "}
            · {basket.length === 0 ? "empty" : `${counted(basket.length, "thing")} ${from}, ${size}`}
          </span>
        </h3>
        {basket.length === 0 && (
          <p className="text-soft mt-1">
            Select files and folders. They are collected here, also from several recovery points.
          </p>
        )}
        <ul className="max-h-[170px] overflow-y-auto">
          {basket.map((item) => (
            <li
              key={`${item.pointId} ${item.path}`}
              className="border-line flex items-center gap-2 border-b py-[4px]"
            >
              <span className="min-w-0 flex-1 truncate" title={item.path}>
                {item.name}
                {moments.length > 1 && (
                  <span className="text-soft text-[12.5px]"> {clockText(item.moment, zone)}</span>
                )}
              </span>
              <span className="text-soft whitespace-nowrap">
                {item.size === null ? "folder" : formatBytes(item.size)}
              </span>
              <button
                type="button"
                className="p-[2px]"
                aria-label={`Remove from basket: ${item.name}`}
                onClick={() => setBasket(basket.filter((one) => one !== item))}
              >
                <X size={13} />
              </button>
            </li>
          ))}
        </ul>
      </section>
      <fieldset className="grid gap-2">
        <legend className="sr-only">Destination</legend>
        {source.machineId && (
          <label className="flex items-center gap-2">
            <input
              type="radio"
              name="destination"
              className="radio radio-xs"
              checked={destination === "original"}
              onChange={() => setDestination("original")}
            />
            Original location on {source.machineName}
          </label>
        )}
        <label className="flex items-center gap-2">
          <input
            type="radio"
            name="destination"
            className="radio radio-xs"
            checked={destination === "folder"}
            onChange={() => setDestination("folder")}
          />
          Another folder or machine of {clientName.split(" ")[0]}
        </label>
        {destination === "folder" && (
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
        )}
        <label className="flex items-center gap-2">
          <input
            type="radio"
            name="destination"
            className="radio radio-xs"
            checked={destination === "download"}
            onChange={() => setDestination("download")}
          />
          Download
          <select
            className="select ml-1 h-[28px] w-[84px]"
            aria-label="Format of the download"
            value={format}
            disabled={destination !== "download"}
            onChange={(event) => setFormat(event.target.value as "zip" | "tar")}
          >
            <option value="zip">ZIP</option>
            <option value="tar">TAR</option>
          </select>
        </label>
      </fieldset>
      {destination !== "download" && (
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
      )}
      {first && (
        <p className="said" data-said>
          {weight ? counted(weight.files, "file") : "What is in the basket"} {from}{" "}
          {weight?.files === 1 ? "goes" : "go"}{" "}
          {destination === "download" ? (
            <>to your browser as {format === "zip" ? "a ZIP archive" : "a TAR archive"}.</>
          ) : destination === "original" ? (
            <>
              back to{" "}
              <span className="font-mono text-[13px]">
                {places.length === 1 ? places[0] : `${places.length} folders`}
              </span>{" "}
              on {source.machineName}.
            </>
          ) : (
            <>
              to <span className="font-mono text-[13px]">{folder}</span> on {machineName}.
            </>
          )}{" "}
          {destination !== "download" && clashText}
          {rooms.length > 0 && machine && (
            <>
              {" "}
              {rooms.map((room) => `${formatBytes(room.free)} free on ${room.path}`).join(", ")} as of{" "}
              {machine.said}.
            </>
          )}
        </p>
      )}
      {first && tight && (
        <p className="warned">
          The destination has less free space than the {formatBytes(weight!.bytes)} to restore. The machine
          checks the space again before it starts.
        </p>
      )}
      <Refusal
        problem={
          sending.problem?.errors.some((error) => error.field.startsWith("destination."))
            ? null
            : sending.problem
        }
      />
      <div className="flex gap-2">
        <button
          type="button"
          className="btn btn-primary"
          disabled={basket.length === 0 || sending.busy}
          onClick={restore}
          data-restore
        >
          {destination === "download" ? "Download" : "Restore"}{" "}
          {basket.length > 0 && weight ? counted(weight.files, "file") : ""}
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
