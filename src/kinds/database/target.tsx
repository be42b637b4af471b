"use client";

import { useState } from "react";
import { SelectField, TextField } from "@/ui/parts/form";
import {
  Choice,
  FileDestinations,
  formatWords,
  RestoreButtons,
  type TargetProps,
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
  const { source, machines, sources, basket } = props;
  const { sending, restore, download } = useRestore(props);
  const servers = [...new Map(sources.map((one) => [one.connectionName, one])).values()];
  const own = sources.find((one) => one.id === source.id);
  const [destination, setDestination] = useState<Destination>(servers.length ? "beside" : "download");
  const [server, setServer] = useState(own?.connectionName ?? servers[0]?.connectionName ?? "");
  const original = source.name.replace(/ on .*$/, "");
  const [name, setName] = useState(`${original}_restored`);
  const [table, setTable] = useState("");
  const files = useFileDestinations(machines);
  const on = own?.connectionName === server ? own : servers.find((one) => one.connectionName === server);
  const whole = basket.every((item) => item.path === "/" || item.path === "/database.dump");
  const send = () => {
    if (destination === "download") return download(files.format);
    const target = {
      beside: { kind: "source", sourceId: on?.id, folder: name.trim(), ...tableOf(table) },
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
        {servers.length > 0 && (
          <Choice chosen={destination === "beside"} choose={() => setDestination("beside")}>
            A new database
          </Choice>
        )}
        {destination === "beside" && (
          <div className="grid gap-2 pl-6">
            <SelectField
              label="Server"
              error={sending.errorOf("destination.sourceId")}
              value={server}
              onChange={(event) => setServer(event.target.value)}
            >
              {servers.map((one) => (
                <option key={one.id} value={one.connectionName}>
                  {one.connectionName}
                </option>
              ))}
            </SelectField>
            <TextField
              label="Name of the new database"
              mono
              error={sending.errorOf("destination.folder")}
              value={name}
              onChange={(event) => setName(event.target.value)}
            />
            <TextField
              label="Only this table (optional)"
              mono
              placeholder="public.orders"
              help="The new database then contains this table and its rows, without indexes and other tables."
              error={sending.errorOf("destination.table.name") ?? sending.errorOf("destination.table.schema")}
              value={table}
              onChange={(event) => setTable(event.target.value)}
            />
          </div>
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
            ? `${table.trim() ? `The table ${table.trim()}` : "The database"} is restored to ${server} as ${table.trim() ? "the only one of a new database, " : ""}${name.trim()}. Nothing that is there changes.`
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
