"use client";

import { useState } from "react";
import { counted } from "@/core/units/duration";
import { momentsText } from "@/ui/restore/basket";
import {
  Choice,
  CLASH_WORDS,
  type Clash,
  ClashChoice,
  FileDestinations,
  formatWords,
  OtherSource,
  RestoreButtons,
  type TargetProps,
  useFileDestinations,
  useOtherSource,
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
  const other = useOtherSource(props);
  const [clash, setClash] = useState<Clash>("keep-both");
  const files = useFileDestinations(machines);
  const send = () => {
    if (destination === "download") return download(files.format);
    const target = {
      original: { kind: "original" },
      library: other.target,
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
        {destination === "library" && <OtherSource other={other} label="Library" sending={sending} />}
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
                : `to ${other.folderWords} in ${other.name}.`}
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
