"use client";

import { useState } from "react";
import { counted } from "@/core/units/duration";
import { SelectField, TextField } from "@/ui/parts/form";
import { momentsText } from "@/ui/restore/basket";
import {
  Choice,
  CLASH_WORDS,
  type Clash,
  ClashChoice,
  FileDestinations,
  formatWords,
  RestoreButtons,
  type TargetProps,
  useFileDestinations,
  useRestore,
} from "@/ui/restore/target-parts";
import { LIBRARY } from "./kind";

type Destination = "original" | "library" | "machine" | "download";

/** Where files of a library go: back, to another folder or library, to a machine, or to the browser. */
export function LibraryTarget(props: TargetProps) {
  const { source, machines, sources, basket, weight, zone } = props;
  const { sending, restore, download } = useRestore(props);
  const [destination, setDestination] = useState<Destination>(
    source.reachable ? "original" : sources.length ? "library" : "download",
  );
  const [libraryId, setLibraryId] = useState(source.reachable ? source.id : (sources[0]?.id ?? ""));
  const [folder, setFolder] = useState("");
  const [clash, setClash] = useState<Clash>("keep-both");
  const files = useFileDestinations(machines);
  const library = sources.find((one) => one.id === libraryId);
  const connections = [...new Set(sources.map((one) => one.connectionName))].sort();
  const names = folder
    .split("/")
    .map((name) => name.trim())
    .filter(Boolean);
  const send = () => {
    if (destination === "download") return download(files.format);
    const target = {
      original: { kind: "original" },
      library: { kind: "source", sourceId: libraryId, ...(names.length ? { folder: names.join("/") } : {}) },
      machine: { kind: "folder", folder: files.folder, machineId: files.machineId },
    }[destination];
    return restore(target, clash);
  };
  const single = weight?.files === 1;
  return (
    <>
      <fieldset className="grid gap-2">
        <legend className="sr-only">Destination</legend>
        {source.reachable && (
          <Choice chosen={destination === "original"} choose={() => setDestination("original")}>
            Same library, original folders
          </Choice>
        )}
        {sources.length > 0 && (
          <Choice chosen={destination === "library"} choose={() => setDestination("library")}>
            Another library or folder
          </Choice>
        )}
        {destination === "library" && (
          <div className="grid gap-2 pl-6">
            <SelectField
              label="Library"
              error={sending.errorOf("destination.sourceId")}
              value={libraryId}
              onChange={(event) => setLibraryId(event.target.value)}
            >
              {connections.map((connection) => (
                <optgroup key={connection} label={connection}>
                  {sources
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
              value={folder}
              onChange={(event) => setFolder(event.target.value)}
            />
          </div>
        )}
        <FileDestinations
          chosen={destination}
          choose={setDestination}
          machines={machines}
          files={files}
          sending={sending}
        />
      </fieldset>
      {destination !== "download" && <ClashChoice clash={clash} setClash={setClash} />}
      {basket.length > 0 && (
        <p className="said" data-said>
          {weight ? counted(weight.files, LIBRARY.item, LIBRARY.items) : "What is in the basket"}{" "}
          {momentsText(basket, zone)} {single ? "goes" : "go"}{" "}
          {destination === "download"
            ? `to your browser as ${formatWords(files.format)}.`
            : destination === "machine"
              ? `to ${files.folder} on ${files.machineName}.`
              : destination === "original"
                ? `back to ${single ? "its folder" : "the original folders"} in ${source.name}.`
                : `to ${names.length ? `the folder ${names.join(" / ")}` : "the original folders"} in ${library?.name}.`}
          {destination !== "download" && ` ${CLASH_WORDS[clash]}`}
          {(destination === "original" || destination === "library") &&
            " A file that is there with the same content is not restored again. The library sets the times of what is restored."}
        </p>
      )}
      <RestoreButtons
        {...props}
        verb={destination === "download" ? "Download" : "Restore"}
        words={LIBRARY}
        sending={sending}
        send={send}
      />
    </>
  );
}
