"use client";

import { useState } from "react";
import {
  Choice,
  type DownloadFormat,
  FileDestinations,
  formatWords,
  NewElsewhere,
  RestoreButtons,
  type TargetProps,
  useConnections,
  useFileDestinations,
  useRestore,
} from "@/ui/restore/target-parts";
import { GUEST } from "./kind";

type Destination = "beside" | "original" | "machine" | "download";

/** Where a guest goes: under a new name on its own or another host, in place of the original, or to files. */
export function GuestTarget(props: TargetProps) {
  const { source, machines, basket } = props;
  const { sending, restore, download } = useRestore(props);
  const where = useConnections(props);
  const [chosen, setDestination] = useState<Destination>(where.connections.length ? "beside" : "download");
  const original = source.name.replace(/ on .*$/, "");
  const [name, setName] = useState(`${original}-restored`);
  const [start, setStart] = useState(false);
  const files = useFileDestinations(machines);
  const whole = basket.every((item) => item.path === "/");
  // files inside of a disk are not stored as files: they are read out of it for a download
  const inside = basket.some((item) => item.path.lastIndexOf("/") > 0);
  const possible = inside
    ? ["download"]
    : whole
      ? ["beside", "original", "machine", "download"]
      : ["machine", "download"];
  const disk = basket.length === 1 && !inside && /^\/[^/]+\.raw$/.test(basket[0]!.path);
  const formats: readonly DownloadFormat[] = disk ? ["zip", "tar", "qcow2"] : ["zip", "tar"];
  const format = formats.includes(files.format) ? files.format : "zip";
  const destination = possible.includes(chosen) ? chosen : "download";
  const send = () => {
    if (destination === "download") return download(format);
    const target = {
      beside: { kind: "source", sourceId: where.sourceId, folder: name.trim(), ...(start ? { start } : {}) },
      original: { kind: "original" },
      machine: { kind: "folder", folder: files.folder, machineId: files.machineId },
    }[destination];
    return restore(target, "keep-both");
  };
  return (
    <>
      <fieldset className="grid gap-2">
        <legend className="sr-only">Destination</legend>
        {whole && where.connections.length > 0 && (
          <Choice chosen={destination === "beside"} choose={() => setDestination("beside")}>
            A new guest
          </Choice>
        )}
        {destination === "beside" && (
          <NewElsewhere
            where={where}
            label="Host"
            nameLabel="Name of the new guest"
            name={name}
            setName={setName}
            sending={sending}
          >
            <label className="flex items-start gap-2">
              <input
                type="checkbox"
                className="checkbox checkbox-xs mt-[3px]"
                checked={start}
                onChange={(event) => setStart(event.target.checked)}
                data-start
              />
              <span>
                Start the guest now from the depot
                <span className="text-soft block text-[12.5px]">
                  Its data is copied while it runs. For libvirt on the console's own machine.
                </span>
              </span>
            </label>
            {sending.errorOf("destination.start") && (
              <p className="refused">{sending.errorOf("destination.start")}</p>
            )}
          </NewElsewhere>
        )}
        {whole && source.reachable && (
          <Choice chosen={destination === "original"} choose={() => setDestination("original")}>
            In place of the original
          </Choice>
        )}
        <FileDestinations
          chosen={destination}
          choose={setDestination}
          machines={inside ? [] : machines}
          files={{ ...files, format }}
          formats={formats}
          sending={sending}
        />
      </fieldset>
      {basket.length > 0 && (
        <p className="said" data-said>
          {destination === "beside"
            ? `The guest is restored to ${where.chosen} as ${name.trim()}, ${start ? "running from the depot until its data is copied" : "powered off"}, with network addresses of its own. Nothing that is there changes.${start ? " Stopping the run discards the guest." : ""}`
            : destination === "original"
              ? `${original} must be powered off. It gets the disks of this moment; the disks that it has now are kept on the host.`
              : destination === "machine"
                ? `The files go to ${files.folder} on ${files.machineName}. Existing files are kept.`
                : `The files go to your browser as ${formatWords(format)}. ${inside ? "To restore the guest itself, select the whole guest." : format === "qcow2" ? "" : "Disks are raw images."}`}
        </p>
      )}
      <RestoreButtons
        {...props}
        weight={null}
        verb={destination === "download" ? "Download" : "Restore"}
        words={GUEST}
        sending={sending}
        send={send}
      />
    </>
  );
}
