import Link from "next/link";
import { zoned } from "@/core/units/zoned";
import { readTrail } from "@/db/access/trail";
import { Clock } from "@/ui/parts/moment";
import { SearchField } from "@/ui/parts/search-field";
import type { ViewInput, ViewOutput } from "./view";

const PAGE = 100;
const toTheSecond = zoned("en-GB", { dateStyle: "medium", timeStyle: "medium" });

function detailText(details: Record<string, unknown>): string {
  return Object.entries(details)
    .filter(([, value]) => value !== null && value !== undefined)
    .map(
      ([name, value]) =>
        `${name}: ${Array.isArray(value) ? value.map((one) => (typeof one === "object" ? JSON.stringify(one) : one)).join("; ") : typeof value === "object" ? JSON.stringify(value) : value}`,
    )
    .join(" · ");
}

export async function trailView({ tx, place, provider, ask, href }: ViewInput): Promise<ViewOutput> {
  const zone = place.client?.zone ?? provider.zone;
  const search = ask("search");
  const before = Number(ask("before")) || null;
  const rows = await readTrail(tx, {
    clientId: place.client?.id,
    search: search ?? place.source?.name,
    before,
    limit: PAGE,
  });
  const chosen = rows.find((row) => String(row.id) === ask("sel"));
  const exportAddress = (format: string) =>
    `/api/v1/trail/export?${new URLSearchParams({
      format,
      ...(place.client ? { client: place.client.id } : {}),
      ...((search ?? place.source?.name) ? { search: search ?? place.source!.name } : {}),
    })}`;
  const main = (
    <>
      <div className="head-line">
        <h1 className="text-[15px] font-bold">Trail</h1>
        <span className="text-soft truncate">log of all actions; entries cannot be changed</span>
        <span className="ml-auto flex gap-3 text-[13px] whitespace-nowrap">
          {(["csv", "jsonl"] as const).map((format) => (
            <a key={format} className="text-primary underline" href={exportAddress(format)} download>
              {format === "csv" ? "as CSV" : "as JSON lines"}
            </a>
          ))}
        </span>
        <span className="w-[220px]">
          <SearchField label="Search the trail" placeholder="Person, action or object…" name="search" />
        </span>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto px-[14px]" tabIndex={0}>
        <table className="grid-table">
          <thead>
            <tr>
              <th scope="col">When</th>
              <th scope="col">Who</th>
              <th scope="col">Action</th>
              <th scope="col">To</th>
              <th scope="col">Client</th>
              <th scope="col">From</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.id} className={row.id === chosen?.id ? "bg-selected" : ""}>
                <td className="whitespace-nowrap">
                  <Clock moment={row.at} zone={zone} />
                </td>
                <td className="whitespace-nowrap">{row.actor}</td>
                <td>
                  <Link
                    className="quiet"
                    data-row
                    href={href({ sel: String(row.id) })}
                    scroll={false}
                    aria-current={row.id === chosen?.id}
                  >
                    {row.action}
                  </Link>
                </td>
                <td>{row.subject}</td>
                <td className="text-soft whitespace-nowrap">{row.clientName}</td>
                <td className="text-soft font-mono text-[12.5px]">{row.address}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {rows.length === 0 && (
          <p className="text-soft py-3">
            {search ? `Nothing in the trail matches “${search}”.` : "No entries yet."}
          </p>
        )}
        {rows.length === PAGE && (
          <Link
            className="btn btn-plain my-3"
            href={href({ before: String(rows.at(-1)!.id), sel: undefined })}
          >
            Older
          </Link>
        )}
      </div>
    </>
  );
  const docket = chosen ? (
    <div className="grid gap-3">
      <h2 className="pr-7 text-[17px]">
        {chosen.actor} {chosen.action}
      </h2>
      <dl className="facts">
        <dt>Object</dt>
        <dd>{chosen.subject}</dd>
        <dt>When</dt>
        <dd>
          {toTheSecond(chosen.at, zone)} <span className="text-soft">({zone})</span>
        </dd>
        <dt>From</dt>
        <dd>{chosen.address}</dd>
        {detailText(chosen.details) && (
          <>
            <dt>Details</dt>
            <dd>{detailText(chosen.details)}</dd>
          </>
        )}
      </dl>
      <p className="text-soft text-[13px]">
        Each line is chained to the one before; <span className="font-mono">bin/keep trail verify</span> finds
        a line that was tampered with.
      </p>
    </div>
  ) : (
    <p className="text-soft">Select an entry to see its details.</p>
  );
  return { main, docket };
}
