"use client";

import { X } from "lucide-react";
import { DateTime } from "luxon";
import { useEffect, useState } from "react";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { KINDS, kindOf, type SourceKind } from "@/kinds";
import { INSIDE } from "@/kinds/browsing";
import { Month } from "../drawings/month";
import { showRefusal } from "../parts/actions";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { clockText } from "../parts/moment";
import { Radio } from "../parts/radio";
import { say } from "../parts/say";
import { withoutBelow } from "../restore/basket";
import { FileTree, type TreeEntry } from "../restore/file-tree";
import { LookInside, type Looking } from "../restore/look-inside";
import { lookingAt, Versions } from "../restore/versions";
import { type GivenShown, giftName } from "./given";
import { Step } from "./help";

interface Moment {
  readonly id: string;
  readonly moment: Date;
  /** Made after many files became unreadable. */
  readonly suspect: boolean;
}
interface Chosen {
  readonly giftId: string;
  readonly pointId: string;
  readonly path: string;
  readonly name: string;
  readonly moment: Date;
}
type Way = "original" | "folder" | "download";

/** When, what, where to: for one thing that was given. */
export function RestoreFiles({
  gift,
  zone,
  asked,
}: {
  gift: GivenShown;
  zone: string;
  asked: () => Promise<void>;
}) {
  const [moments, setMoments] = useState<readonly Moment[]>([]);
  const [pointId, setPointId] = useState<string | null>(null);
  const [month, setMonth] = useState("");
  const [basket, setBasket] = useState<readonly Chosen[]>([]);
  const [looked, setLooked] = useState<TreeEntry | null>(null);
  const [looking, setLooking] = useState<Looking | null>(null);
  const monthOf = (moment: Date) => DateTime.fromJSDate(moment, { zone }).toFormat("yyyy-MM");
  useEffect(() => {
    let current = true;
    callApi<{ points: { id: string; moment: string; suspect: boolean }[] }>(
      "GET",
      `/given/${gift.id}/recovery-points`,
    ).then(({ points }) => {
      // the last good moment first: what came after may be unreadable
      const offered = points.find(({ suspect }) => !suspect) ?? points[0];
      if (!current || !offered) return;
      setMoments(points.map(({ moment, ...point }) => ({ ...point, moment: new Date(moment) })));
      setPointId(offered.id);
      setMonth(DateTime.fromISO(offered.moment, { zone }).toFormat("yyyy-MM"));
    }, showRefusal);
    return () => {
      current = false;
    };
  }, [gift.id, zone]);
  const chosen = moments.find(({ id }) => id === pointId);
  if (!chosen) return <p className="text-soft">Looking for your recovery points…</p>;
  const isIn = (at: string, path: string) => basket.some((item) => item.pointId === at && item.path === path);
  const put = (entry: TreeEntry, at: string, moment: Date) => {
    if (!isIn(at, entry.path))
      setBasket([
        ...(entry.type === "folder" ? withoutBelow(basket, at, entry.path) : basket),
        { giftId: gift.id, pointId: at, path: entry.path, name: entry.name, moment },
      ]);
  };
  const atOf = (entry: TreeEntry) => entry.pointId ?? chosen.id;
  const toggle = (entry: TreeEntry) =>
    isIn(atOf(entry), entry.path)
      ? setBasket(basket.filter((item) => item.pointId !== atOf(entry) || item.path !== entry.path))
      : put(entry, atOf(entry), entry.moment ? new Date(entry.moment) : chosen.moment);
  const Inside = kindOf(gift.kind) ? INSIDE[gift.kind as SourceKind] : null;
  const inside = {
    address: `/given/${gift.id}/recovery-points/${chosen.id}`,
    zone,
    inBasket: (entry: TreeEntry) => isIn(atOf(entry), entry.path),
    toggle,
    heading: false,
  };
  const words = kindOf(gift.kind) ?? KINDS.files;
  return (
    <div className="grid gap-5 min-[900px]:grid-cols-[270px_minmax(0,1fr)_300px]">
      <section className="grid content-start gap-3" aria-label="When">
        <Step
          title="When"
          help="The underlined days are kept. Choose a day before it was lost or spoilt; then one of the times of that day."
        />
        <Month
          points={moments}
          chosen={chosen}
          choose={(id) => {
            setPointId(id);
            setMonth(monthOf(moments.find((one) => one.id === id)!.moment));
          }}
          month={month}
          setMonth={setMonth}
          zone={zone}
        />
        {moments.some(({ suspect }) => suspect) && (
          <p className="warned" role="status">
            {chosen.suspect
              ? "By this moment, many files had become unreadable. Choose an earlier moment to get readable files."
              : `Many of these files changed at once and became unreadable. This moment, ${clockText(chosen.moment, zone)}, is before that.`}
          </p>
        )}
      </section>
      <section
        className="bg-base-100 border-base-300 flex h-[470px] min-w-0 flex-col border"
        aria-label="What"
      >
        <div className="px-4 pt-3">
          <Step
            title="What"
            help={
              Inside
                ? `The ${words.items} at that time. Select the items to restore. Click one to read it.`
                : "The files at that time. Select the items to restore. Click a file name to see its older versions."
            }
          >
            <span className="text-soft text-[15px] font-normal">as of {clockText(chosen.moment, zone)}</span>
          </Step>
        </div>
        {Inside ? (
          <Inside key={chosen.id} {...inside} download={!gift.askFirst} />
        ) : looking ? (
          <LookInside looking={looking} close={() => setLooking(null)} />
        ) : (
          <FileTree
            key={chosen.id}
            {...inside}
            everywhere={`/given/${gift.id}`}
            root={gift.path}
            startPath={gift.path}
            look={setLooked}
            looked={looked?.path ?? null}
          />
        )}
        {looked && looked.type === "file" && (
          <Versions
            address={`/given/${gift.id}/versions`}
            entry={looked}
            zone={zone}
            points={moments.length}
            close={() => {
              setLooked(null);
              setLooking(null);
            }}
            look={(version, before) =>
              setLooking(lookingAt(`/given/${gift.id}/recovery-points`, looked, version, before, zone))
            }
            put={(version) => put(looked, version.pointId, new Date(version.moment))}
            isIn={(version) => isIn(version.pointId, looked.path)}
          />
        )}
      </section>
      <WhereTo gift={gift} basket={basket} setBasket={setBasket} zone={zone} asked={asked} />
    </div>
  );
}

function WhereTo({
  gift,
  basket,
  setBasket,
  zone,
  asked,
}: {
  gift: GivenShown;
  basket: readonly Chosen[];
  setBasket: (basket: readonly Chosen[]) => void;
  zone: string;
  asked: () => Promise<void>;
}) {
  const sending = useSending();
  const mailbox = gift.kind === "mail";
  const words = kindOf(gift.kind) ?? KINDS.files;
  /** Mailboxes and libraries have folders; a machine has places. */
  const inFolders = words.reachedBy === "network";
  const own = mailbox ? "your mailbox" : giftName(gift);
  const target = inFolders ? (gift.reachable ? own : null) : (gift.machine?.name ?? null);
  const [way, setWay] = useState<Way>(target ? "original" : "download");
  const [folder, setFolder] = useState("Restored");
  const [weight, setWeight] = useState<{ files: number; bytes: number } | null>(null);
  const items = basket.map(({ giftId, pointId, path }) => ({ giftId, pointId, path }));
  const key = JSON.stringify(items);
  useEffect(() => {
    setWeight(null);
    if (key === "[]") return;
    let current = true;
    callApi<{ files: number; bytes: number }>("POST", "/given/weight", { items: JSON.parse(key) }).then(
      (answer) => current && setWeight(answer),
      () => {},
    );
    return () => {
      current = false;
    };
  }, [key]);
  const send = () =>
    sending.send(async () => {
      if (way === "download") {
        const { url } = await callApi<{ url: string }>("POST", "/given/archives", { items, format: "zip" });
        window.location.assign(url);
        say.success("The download begins.");
      } else {
        const { askId } = await callApi<{ askId: string | null }>("POST", "/given/restores", {
          items,
          folder: way === "folder" ? folder : null,
        });
        say.success(askId ? "Waiting for your manager's approval." : "It is on its way back.");
      }
      setBasket([]);
      await asked();
    });
  const size = weight
    ? `${counted(weight.files, words.item, words.items)} (${formatBytes(weight.bytes)})`
    : "Selected items";
  const one = weight ? weight.files === 1 : true;
  const ways: readonly (readonly [Way, string])[] = [
    ...(target
      ? ([
          ["original", inFolders ? `Original folders in ${own}` : `Original location on ${target}`],
          ["folder", mailbox ? "A separate folder in your mailbox" : "A new folder there"],
        ] as const)
      : []),
    ...(gift.askFirst ? [] : ([["download", "Download as a ZIP file"]] as const)),
  ];
  return (
    <section className="grid grid-cols-[minmax(0,1fr)] content-start gap-3" aria-label="Where to">
      <Step
        title="Where to"
        help={
          mailbox
            ? "Existing items are never changed or deleted. An item that is already there is not restored again."
            : "Existing files are never replaced. If a file of that name exists, the date and time are added to the name of the restored file."
        }
      />
      {basket.length === 0 ? (
        <p className="text-soft">Select items to restore. The selection can include several days.</p>
      ) : (
        <ul aria-label="Chosen">
          {basket.map((item) => (
            <li
              key={`${item.pointId} ${item.path}`}
              className="border-line flex items-center gap-2 border-b py-1"
            >
              <span className="min-w-0 flex-1 truncate" title={item.path}>
                {item.name}
                <span className="text-soft text-[14px]"> {clockText(item.moment, zone)}</span>
              </span>
              <button
                type="button"
                className="p-2"
                aria-label={`Not this: ${item.name}`}
                onClick={() => setBasket(basket.filter((one) => one !== item))}
              >
                <X size={16} />
              </button>
            </li>
          ))}
        </ul>
      )}
      <fieldset className="grid gap-2">
        <legend className="sr-only">Where to</legend>
        {ways.map(([value, label]) => (
          <label key={value} className="flex min-h-[32px] items-center gap-2">
            <Radio name="way" size="sm" checked={way === value} choose={() => setWay(value)} />
            {label}
          </label>
        ))}
      </fieldset>
      {way === "folder" && (
        <TextField
          label={`Name of the folder, in ${giftName(gift)}`}
          error={sending.errorOf("destination.folder") ?? sending.errorOf("folder")}
          value={folder}
          onChange={(event) => setFolder(event.target.value)}
        />
      )}
      {basket.length > 0 && (
        <p className="said" data-said>
          {way === "download"
            ? `${size} will be downloaded as one ZIP file.`
            : `${size} will be restored to ${way === "folder" ? `the folder ${folder}` : one ? `the original ${inFolders ? "folder" : "location"}` : `the original ${inFolders ? "folders" : "locations"}`} ${inFolders ? "in" : "on"} ${target}. ${mailbox ? "Existing items are kept." : "Existing files are kept."}`}
          {gift.askFirst && " Your manager must approve it first."}
        </p>
      )}
      <Refusal problem={sending.problem} />
      <button
        type="button"
        className="btn btn-primary"
        disabled={basket.length === 0 || sending.busy}
        onClick={send}
        data-restore-files
      >
        {way === "download" ? "Download" : gift.askFirst ? "Send request" : "Restore"}
      </button>
    </section>
  );
}
