"use client";

import { useState } from "react";
import { TextField } from "@/ui/parts/form";
import {
  Choice,
  FileDestinations,
  formatWords,
  NewElsewhere,
  RestoreButtons,
  type TargetProps,
  useConnections,
  useFileDestinations,
  useRestore,
} from "@/ui/restore/target-parts";
import { DATABASE } from "./kind";

type Destination = "beside" | "original" | "machine" | "download";

/** A table as it is typed, `schema.name` or a name in the schema `public`, as the API takes it. */
function tableOf(text: string): object {
  const typed = text.trim();
  if (!typed) return {};
  const cut = typed.indexOf(".");
  return {
    table:
      cut < 0
        ? { schema: "public", name: typed }
        : { schema: typed.slice(0, cut), name: typed.slice(cut + 1) },
  };
}

/** Where a database goes: under a new name on its own or another server, in place of the original, or to files. */
export function DatabaseTarget(props: TargetProps) {
  const { source, machines, basket } = props;
  const { sending, restore, download } = useRestore(props);
  const where = useConnections(props);
  const [destination, setDestination] = useState<Destination>(
    where.connections.length ? "beside" : "download",
  );
  const original = source.name.replace(/ on .*$/, "");
  const [name, setName] = useState(`${original}_restored`);
  const [table, setTable] = useState("");
  const files = useFileDestinations(machines);
  const whole = basket.every((item) => item.path === "/" || item.path === "/database.dump");
  const send = () => {
    if (destination === "download") return download(files.format);
    const target = {
      beside: { kind: "source", sourceId: where.sourceId, folder: name.trim(), ...tableOf(table) },
      original: { kind: "original" },
      machine: { kind: "folder", folder: files.folder, machineId: files.machineId },
    }[destination];
    return restore(target, "keep-both");
  };
  const toServer = destination === "beside" || destination === "original";
  return (
    <>
      <fieldset className="grid gap-2">
        <legend className="sr-only">Destination</legend>
        {where.connections.length > 0 && (
          <Choice chosen={destination === "beside"} choose={() => setDestination("beside")}>
            A new database
          </Choice>
        )}
        {destination === "beside" && (
          <NewElsewhere
            where={where}
            label="Server"
            nameLabel="Name of the new database"
            name={name}
            setName={setName}
            sending={sending}
          >
            <TextField
              label="Only this table (optional)"
              mono
              placeholder="public.orders"
              help="The new database then contains this table and its rows, without indexes and other tables."
              error={sending.errorOf("destination.table.name") ?? sending.errorOf("destination.table.schema")}
              value={table}
              onChange={(event) => setTable(event.target.value)}
            />
          </NewElsewhere>
        )}
        {source.reachable && (
          <Choice chosen={destination === "original"} choose={() => setDestination("original")}>
            In place of the original
          </Choice>
        )}
        <FileDestinations
          chosen={destination}
          choose={setDestination}
          machines={machines}
          files={files}
          sending={sending}
        />
      </fieldset>
      {basket.length > 0 && toServer && !whole && (
        <p className="warned">
          Single files are for downloads and machines. To restore a database, select the whole database.
        </p>
      )}
      {basket.length > 0 && (whole || !toServer) && (
        <p className="said" data-said>
          {destination === "beside"
            ? `${table.trim() ? `The table ${table.trim()}` : "The database"} is restored to ${where.chosen} as ${table.trim() ? "the only one of a new database, " : ""}${name.trim()}. Nothing that is there changes.`
            : destination === "original"
              ? `The database is restored beside ${original}, then takes its name. The database that is there now is renamed and kept; it must have no sessions.`
              : destination === "machine"
                ? `The files go to ${files.folder} on ${files.machineName}. Existing files are kept.`
                : `The files go to your browser as ${formatWords(files.format)}. pg_restore reads database.dump.`}
        </p>
      )}
      <RestoreButtons
        {...props}
        weight={null}
        verb={destination === "download" ? "Download" : "Restore"}
        words={DATABASE}
        sending={sending}
        send={send}
      />
    </>
  );
}
