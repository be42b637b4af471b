"use client";

import { useState } from "react";
import { counted } from "@/core/units/duration";
import { SelectField, TextField } from "@/ui/parts/form";
import { momentsText } from "@/ui/restore/basket";
import {
  Choice,
  FileDestinations,
  formatWords,
  RestoreButtons,
  type TargetProps,
  useFileDestinations,
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
  const [mailboxId, setMailboxId] = useState(source.reachable ? source.id : (sources[0]?.id ?? ""));
  const [folder, setFolder] = useState("");
  const files = useFileDestinations(machines);
  const mailbox = sources.find((one) => one.id === mailboxId);
  const connections = [...new Set(sources.map((one) => one.connectionName))].sort();
  const names = folder
    .split("/")
    .map((name) => name.trim())
    .filter(Boolean);
  const send = () => {
    if (destination === "download") return download(files.format);
    const target = {
      original: { kind: "original" },
      mailbox: { kind: "source", sourceId: mailboxId, ...(names.length ? { folder: names.join("/") } : {}) },
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
        {destination === "mailbox" && (
          <div className="grid gap-2 pl-6">
            <SelectField
              label="Mailbox"
              error={sending.errorOf("destination.sourceId")}
              value={mailboxId}
              onChange={(event) => setMailboxId(event.target.value)}
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
                : `to ${names.length ? `the folder ${names.join(" / ")}` : "the original folders"} in ${mailbox?.name}.`}
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
