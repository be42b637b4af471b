"use client";

import { useState } from "react";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { volumeOf } from "@/core/units/volumes";
import { momentsText } from "@/ui/restore/basket";
import {
  Choice,
  CLASH_WORDS,
  type Clash,
  ClashChoice,
  DownloadChoice,
  type DownloadFormat,
  formatWords,
  MachineFields,
  RestoreButtons,
  type TargetProps,
  useRestore,
} from "@/ui/restore/target-parts";
import { FILES } from "./kind";

const parentOf = (path: string): string => path.slice(0, path.lastIndexOf("/")) || "/";

/** Where files go: back, to a folder of a machine, or to the browser; and what happens where names meet. */
export function FilesTarget(props: TargetProps) {
  const { source, clientName, machines, basket, weight, zone } = props;
  const { sending, restore, download } = useRestore(props);
  const [destination, setDestination] = useState<"original" | "folder" | "download">(
    source.machineId ? "original" : "folder",
  );
  const [machineId, setMachineId] = useState(source.machineId ?? machines[0]?.id ?? "");
  const [folder, setFolder] = useState("/restored");
  const [clash, setClash] = useState<Clash>("keep-both");
  const [format, setFormat] = useState<DownloadFormat>("zip");
  const machineName = machines.find((machine) => machine.id === machineId)?.name ?? source.machineName;
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
  const send = () =>
    destination === "download"
      ? download(format)
      : restore(
          destination === "original" ? { kind: "original" } : { kind: "folder", folder, machineId },
          clash,
        );
  return (
    <>
      <fieldset className="grid gap-2">
        <legend className="sr-only">Destination</legend>
        {source.machineId && (
          <Choice chosen={destination === "original"} choose={() => setDestination("original")}>
            Original location on {source.machineName}
          </Choice>
        )}
        <Choice chosen={destination === "folder"} choose={() => setDestination("folder")}>
          Another folder or machine of {clientName.split(" ")[0]}
        </Choice>
        {destination === "folder" && (
          <MachineFields
            machines={machines}
            machineId={machineId}
            setMachineId={setMachineId}
            folder={folder}
            setFolder={setFolder}
            sending={sending}
          />
        )}
        <DownloadChoice
          chosen={destination === "download"}
          choose={() => setDestination("download")}
          format={format}
          setFormat={setFormat}
        />
      </fieldset>
      {destination !== "download" && <ClashChoice clash={clash} setClash={setClash} />}
      {basket.length > 0 && (
        <p className="said" data-said>
          {weight ? counted(weight.files, "file") : "What is in the basket"} {momentsText(basket, zone)}{" "}
          {weight?.files === 1 ? "goes" : "go"}{" "}
          {destination === "download" ? (
            <>to your browser as {formatWords(format)}.</>
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
          {destination !== "download" && CLASH_WORDS[clash]}
          {rooms.length > 0 && machine && (
            <>
              {" "}
              {rooms.map((room) => `${formatBytes(room.free)} free on ${room.path}`).join(", ")} as of{" "}
              {machine.said}.
            </>
          )}
        </p>
      )}
      {basket.length > 0 && tight && (
        <p className="warned">
          The destination has less free space than the {formatBytes(weight!.bytes)} to restore. The machine
          checks the space again before it starts.
        </p>
      )}
      <RestoreButtons
        {...props}
        verb={destination === "download" ? "Download" : "Restore"}
        words={FILES}
        sending={sending}
        send={send}
      />
    </>
  );
}
