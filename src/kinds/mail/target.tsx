"use client";

import { useState } from "react";
import { counted } from "@/core/units/duration";
import { momentsText } from "@/ui/restore/basket";
import {
  Choice,
  FileDestinations,
  formatWords,
  OtherSource,
  RestoreButtons,
  type TargetProps,
  useFileDestinations,
  useOtherSource,
  useRestore,
} from "@/ui/restore/target-parts";
import { MAIL } from "./kind";

type Destination = "original" | "mailbox" | "machine" | "download";

/** Where messages go: back, to another mailbox or folder, to files on a machine, or to the browser. */
export function MailTarget(props: TargetProps) {
  const { source, machines, sources, basket, weight, zone } = props;
  const { sending, restore, download } = useRestore(props);
  const [destination, setDestination] = useState<Destination>(
    source.reachable ? "original" : sources.length ? "mailbox" : "download",
  );
  const other = useOtherSource(props);
  const files = useFileDestinations(machines);
  const send = () => {
    if (destination === "download") return download(files.format);
    const target = {
      original: { kind: "original" },
      mailbox: other.target,
      machine: { kind: "folder", folder: files.folder, machineId: files.machineId },
    }[destination];
    return restore(target, "keep-both");
  };
  const single = weight?.files === 1;
  return (
    <>
      <fieldset className="grid gap-2">
        <legend className="sr-only">Destination</legend>
        {source.reachable && (
          <Choice chosen={destination === "original"} choose={() => setDestination("original")}>
            Same mailbox, original folders
          </Choice>
        )}
        {sources.length > 0 && (
          <Choice chosen={destination === "mailbox"} choose={() => setDestination("mailbox")}>
            Another mailbox or folder
          </Choice>
        )}
        {destination === "mailbox" && <OtherSource other={other} label="Mailbox" sending={sending} />}
        <FileDestinations
          chosen={destination}
          choose={setDestination}
          machines={machines}
          files={files}
          formats={["zip", "tar", "mbox", "ics", "vcf"]}
          sending={sending}
        />
      </fieldset>
      {basket.length > 0 && (
        <p className="said" data-said>
          {weight ? counted(weight.files, MAIL.item, MAIL.items) : "What is in the basket"}{" "}
          {momentsText(basket, zone)} {single ? "goes" : "go"}{" "}
          {destination === "download"
            ? `to your browser as ${formatWords(files.format)}${files.format === "zip" || files.format === "tar" ? " of EML, ICS and VCF files" : ""}.`
            : destination === "machine"
              ? `to ${files.folder} on ${files.machineName}, as EML, ICS and VCF files. Existing files are kept.`
              : destination === "original"
                ? `back to ${single ? "its folder" : "the original folders"} in ${source.name}.`
                : `to ${other.folderWords} in ${other.name}.`}
          {(destination === "original" || destination === "mailbox") &&
            " Existing items are kept. An item that is already there is not restored again. Flags and dates are restored."}
        </p>
      )}
      <RestoreButtons
        {...props}
        verb={destination === "download" ? "Download" : "Restore"}
        words={MAIL}
        sending={sending}
        send={send}
      />
    </>
  );
}
