"use client";

import { useEffect, useState } from "react";
import { formatBytes } from "@/core/units/bytes";
import { callApi, refusalOf } from "@/ui/parts/api";
import { FileTree, type TreeEntry } from "@/ui/restore/file-tree";
import type { InsideProps } from "@/ui/restore/inside-props";
import { diskFile } from "./names";

interface Guest {
  readonly name: string;
  readonly memory: number;
  readonly processors: number;
  readonly quiesced: boolean;
  readonly notQuiesced: string | null;
  readonly disks: readonly {
    readonly name: string;
    readonly size: number;
    readonly stored: number;
    readonly table: "gpt" | "mbr" | null;
    readonly partitions: readonly {
      readonly number: number;
      readonly size: number;
      readonly fileSystem: string | null;
      readonly label: string;
      /** The folder of its files; null where those are not read. */
      readonly files: string | null;
    }[];
  }[];
}

const entryOf = (name: string, path: string, size: number | null): TreeEntry => ({
  name,
  path,
  type: path === "/" ? "folder" : "file",
  size,
  modified: "",
  target: null,
  items: null,
});
const titleOf = ({ number }: { readonly number: number }): string =>
  number > 0 ? `Partition ${number}` : "Whole disk";
const TABLES = { gpt: "GPT", mbr: "MBR" } as const;

/** A guest at a recovery point: the whole of it, or single disks, with what is on each. */
export function GuestInside({
  address,
  zone,
  inBasket,
  toggle,
  look,
  looked,
  aside,
  heading = true,
}: InsideProps) {
  const [opened, setOpened] = useState<{ readonly path: string; readonly title: string } | null>(null);
  const [guest, setGuest] = useState<Guest | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  useEffect(() => {
    let current = true;
    callApi<{ guest: Guest }>("GET", `${address}/guest`).then(
      (answer) => current && setGuest(answer.guest),
      (error) => current && setProblem(refusalOf(error)),
    );
    return () => {
      current = false;
    };
  }, [address]);
  if (opened)
    return (
      <>
        <p className="flex items-center gap-3 px-4 pt-[10px]">
          <button type="button" className="btn btn-plain" onClick={() => setOpened(null)}>
            All disks
          </button>
          <span className="truncate">{opened.title}</span>
        </p>
        <FileTree
          address={address}
          everywhere={null}
          root={opened.path}
          below
          zone={zone}
          startPath={opened.path}
          inBasket={inBasket}
          toggle={toggle}
          look={look ?? (() => {})}
          looked={looked ?? null}
          heading={heading}
          aside={aside}
        />
      </>
    );
  const whole = entryOf(
    guest?.name ?? "Guest",
    "/",
    guest?.disks.reduce((sum, { stored }) => sum + stored, 0) ?? null,
  );
  return (
    <>
      <div className="flex min-h-[52px] items-center gap-3 px-4 py-[10px]">
        {heading && <h2 className="part-title">What</h2>}
        {guest && (
          <p className="text-soft flex-1 text-[13px]">
            {formatBytes(guest.memory)} memory · {guest.processors}{" "}
            {guest.processors === 1 ? "processor" : "processors"} ·{" "}
            {guest.quiesced ? "file systems at rest" : `as after a power cut (${guest.notQuiesced})`}
          </p>
        )}
        {aside}
      </div>
      {problem && (
        <p className="refused mx-4 mt-2" role="alert">
          {problem}
        </p>
      )}
      {!guest && !problem && <p className="text-soft px-4 py-2">Reading…</p>}
      {guest && (
        <div className="min-h-0 flex-1 overflow-y-auto px-4" tabIndex={0}>
          <table className="grid-table table-fixed">
            <caption className="sr-only">The guest and its disks</caption>
            <thead>
              <tr>
                <th scope="col">Name</th>
                <th scope="col" className="w-[170px]">
                  Content
                </th>
                <th scope="col" className="w-[100px] text-right">
                  Size
                </th>
                <th scope="col" className="w-[100px] text-right">
                  Stored
                </th>
              </tr>
            </thead>
            <tbody>
              <tr className={inBasket(whole) ? "bg-selected" : ""}>
                <td>
                  <label className="flex items-center gap-2">
                    <input
                      type="checkbox"
                      className="checkbox checkbox-xs"
                      checked={inBasket(whole)}
                      onChange={() => toggle(whole)}
                      data-whole
                    />
                    <b className="truncate">{guest.name}</b>
                  </label>
                </td>
                <td>Whole guest</td>
                <td className="num text-right">
                  {formatBytes(guest.disks.reduce((sum, { size }) => sum + size, 0))}
                </td>
                <td className="num text-right">{formatBytes(whole.size ?? 0)}</td>
              </tr>
              {guest.disks.flatMap((disk) => {
                const entry = entryOf(`${guest.name} ${disk.name}`, `/${diskFile(disk.name)}`, disk.size);
                return [
                  <tr key={disk.name} className={inBasket(entry) ? "bg-selected" : ""}>
                    <td>
                      <label className="flex items-center gap-2 pl-5">
                        <input
                          type="checkbox"
                          className="checkbox checkbox-xs"
                          checked={inBasket(entry)}
                          onChange={() => toggle(entry)}
                          data-disk={disk.name}
                        />
                        <span className="truncate font-mono text-[13px]">{disk.name}</span>
                      </label>
                    </td>
                    <td>{disk.table ? `${TABLES[disk.table]} partition table` : "No partition table"}</td>
                    <td className="num text-right">{formatBytes(disk.size)}</td>
                    <td className="num text-right">{formatBytes(disk.stored)}</td>
                  </tr>,
                  ...disk.partitions.map((one) => (
                    <tr key={`${disk.name} ${one.number}`}>
                      <td>
                        <span className="block truncate pl-[66px]">
                          {one.files ? (
                            <button
                              type="button"
                              className="text-primary underline"
                              onClick={() =>
                                setOpened({
                                  path: `/${disk.name}/${one.files}`,
                                  title: `${disk.name}, ${titleOf(one).toLowerCase()}${one.label ? ` · ${one.label}` : ""}`,
                                })
                              }
                              data-partition={`${disk.name} ${one.number}`}
                            >
                              {titleOf(one)}
                            </button>
                          ) : (
                            titleOf(one)
                          )}
                          {one.label && <span className="text-soft"> · {one.label}</span>}
                        </span>
                      </td>
                      <td>
                        {one.fileSystem ?? <span className="text-soft">Unknown</span>}
                        {one.fileSystem && !one.files && <span className="text-soft">, files not read</span>}
                      </td>
                      <td className="num text-right">{formatBytes(one.size)}</td>
                      <td />
                    </tr>
                  )),
                ];
              })}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}
