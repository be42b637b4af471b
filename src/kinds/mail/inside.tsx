"use client";

import { Download, Paperclip, X } from "lucide-react";
import { useCallback, useEffect, useState } from "react";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { callApi, refusalOf } from "@/ui/parts/api";
import { clockText } from "@/ui/parts/moment";
import type { TreeEntry } from "@/ui/restore/file-tree";
import type { InsideProps } from "@/ui/restore/inside-props";

type Holds = "message" | "calendar" | "addressbook";
/** What stands in the columns of a folder's items, and for an item without a title. */
const COLUMNS: Readonly<Record<Holds, { title: string; time: string; untitled: string; word: string }>> = {
  message: { title: "Subject", time: "Received", untitled: "(no subject)", word: "Message" },
  calendar: { title: "Entry", time: "Begins", untitled: "(no title)", word: "Calendar entry" },
  addressbook: { title: "Name", time: "Changed", untitled: "(no name)", word: "Contact" },
};
const titleOf = ({ subject, holds }: Pick<Message, "subject" | "holds">): string =>
  subject || COLUMNS[holds].untitled;

interface Folder {
  readonly path: string;
  readonly name: string;
  readonly role: string | null;
  readonly depth: number;
  readonly messages: number;
}
interface Message {
  readonly path: string;
  readonly holds: Holds;
  readonly subject: string;
  readonly from: string;
  readonly received: string;
  readonly size: number;
  readonly keywords: readonly string[];
  readonly attachment: boolean;
}
interface Opened {
  readonly holds: Holds;
  readonly fields: readonly { readonly label: string; readonly value: string }[];
  readonly subject: string;
  readonly from: string;
  readonly to: readonly string[];
  readonly cc: readonly string[];
  readonly sent: string | null;
  readonly text: string;
  readonly html: string | null;
  readonly attachments: readonly { readonly name: string; readonly type: string; readonly size: number }[];
  readonly cut: boolean;
}
interface Shown {
  readonly messages: readonly Message[];
  readonly total: number;
  readonly next: string | null;
  /** Of a search: how far it came. */
  readonly note: string | null;
}

const PAGE = 50;
const unread = ({ holds, keywords }: Message): boolean => holds === "message" && !keywords.includes("$seen");
/** Without the address, where there is a name. */
const nameOf = (from: string): string => /^(.*\S)\s*<[^<>]*>$/.exec(from)?.[1] ?? from;
const entryOf = (message: Message): TreeEntry => ({
  name: titleOf(message),
  path: message.path,
  type: "file",
  size: message.size,
  modified: message.received,
  target: null,
  items: null,
});
const folderEntryOf = (folder: Folder): TreeEntry => ({
  name: folder.name,
  path: folder.path,
  type: "folder",
  size: null,
  modified: "",
  target: null,
  items: folder.messages,
});
const isContainer = ({ role }: Folder): boolean => role === "calendars" || role === "contacts";
/** Folders of the mail, then calendars and address books. */
function mailFirst(folders: readonly Folder[]): Folder[] {
  const tops = folders.filter(isContainer).map(({ path }) => path);
  const beside = ({ path }: Folder) => tops.some((top) => path === top || path.startsWith(`${top}/`));
  return [...folders.filter((one) => !beside(one)), ...folders.filter(beside)];
}

/** A mailbox at a recovery point: folders, the messages of one of them or of a search, and the message that is read. */
export function MailInside({
  address,
  zone,
  inBasket,
  toggle,
  aside,
  heading = true,
  download = true,
}: InsideProps) {
  const [folders, setFolders] = useState<readonly Folder[] | null>(null);
  const [folder, setFolder] = useState<string | null>(null);
  const [shown, setShown] = useState<Shown | null>(null);
  const [line, setLine] = useState("");
  const [asked, setAsked] = useState("");
  const [read, setRead] = useState<Message | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  useEffect(() => {
    let current = true;
    callApi<{ folders: Folder[] }>("GET", `${address}/mail-folders`).then(
      (answer) => {
        if (!current) return;
        setFolders(mailFirst(answer.folders));
        const first = answer.folders.find((one) => one.role === "inbox") ?? answer.folders[0];
        setFolder(first?.path ?? null);
      },
      (error) => current && setProblem(refusalOf(error)),
    );
    return () => {
      current = false;
    };
  }, [address]);
  const page = useCallback(
    async (path: string, cursor: string | null): Promise<Shown> => ({
      ...(await callApi<Omit<Shown, "note">>(
        "GET",
        `${address}/messages?path=${encodeURIComponent(path)}&limit=${PAGE}${cursor ? `&cursor=${encodeURIComponent(cursor)}` : ""}`,
      )),
      note: null,
    }),
    [address],
  );
  useEffect(() => {
    if (!asked && folder === null) return;
    let current = true;
    setShown(null);
    setProblem(null);
    const found = asked
      ? callApi<{ messages: Message[]; looked: number; of: number; more: boolean }>(
          "GET",
          `${address}/messages/search?line=${encodeURIComponent(asked)}`,
        ).then(
          ({ messages, looked, of, more }): Shown => ({
            messages,
            total: messages.length,
            next: null,
            note: `${counted(messages.length, "item")} found among ${looked.toLocaleString("en-GB")} of ${of.toLocaleString("en-GB")}${more ? "; the search stopped there. Add terms to narrow it" : ""}.`,
          }),
        )
      : page(folder!, null);
    found.then(
      (answer) => current && setShown(answer),
      (error) => current && setProblem(refusalOf(error)),
    );
    return () => {
      current = false;
    };
  }, [address, asked, folder, page]);
  const more = async () => {
    if (!shown?.next || folder === null) return;
    try {
      const next = await page(folder, shown.next);
      setShown({ ...next, messages: [...shown.messages, ...next.messages] });
    } catch (error) {
      setProblem(refusalOf(error));
    }
  };
  /** What a chosen folder brings along. */
  const covered = (path: string): boolean =>
    (folders ?? []).some((one) => path.startsWith(`${one.path}/`) && inBasket(folderEntryOf(one)));
  const chosen = folders?.find((one) => one.path === folder);
  /** What the list shows; a search finds items of all kinds. */
  const holds: Holds =
    !asked && (chosen?.role === "calendar" || chosen?.role === "addressbook") ? chosen.role : "message";
  const columns = COLUMNS[holds];
  return (
    <>
      <form
        className="flex items-center gap-3 px-4 py-[10px]"
        onSubmit={(event) => {
          event.preventDefault();
          setAsked(line.trim());
          setRead(null);
        }}
      >
        {heading && <h2 className="part-title">What</h2>}
        <input
          className="input w-full"
          data-filter
          placeholder="Search: from:maren subject:keys has:attachment"
          aria-label="Search items at this moment"
          title="from:  to:  subject:  has:attachment  after:2026-11-01  before:2026-11-30  larger:2MB  smaller:10MB, and words"
          value={line}
          onChange={(event) => {
            setLine(event.target.value);
            if (!event.target.value) setAsked("");
          }}
        />
        <button type="submit" className="btn btn-plain">
          Search
        </button>
        {aside}
      </form>
      <div
        className={`grid min-h-0 flex-1 ${heading ? "grid-cols-[158px_minmax(0,1fr)]" : "grid-cols-[160px_minmax(0,1fr)]"} max-[560px]:grid-cols-1 max-[560px]:grid-rows-[auto_minmax(0,1fr)]`}
      >
        <nav
          className="border-line min-h-0 overflow-y-auto border-r pb-3 max-[560px]:max-h-[112px] max-[560px]:border-r-0 max-[560px]:border-b"
          aria-label="Folders"
          tabIndex={0}
        >
          {!folders && !problem && <p className="text-soft px-4">Reading…</p>}
          <ul>
            {folders?.map((one) => (
              <li
                key={one.path}
                className={`flex items-center gap-2 py-[4px] pr-2 ${!asked && folder === one.path ? "bg-selected" : ""}`}
                style={{ paddingLeft: 16 + one.depth * 12 }}
              >
                <input
                  type="checkbox"
                  className="checkbox checkbox-xs"
                  aria-label={`Add to basket: folder ${one.name}`}
                  checked={inBasket(folderEntryOf(one)) || covered(one.path)}
                  disabled={covered(one.path)}
                  onChange={() => toggle(folderEntryOf(one))}
                />
                <button
                  type="button"
                  className="min-w-0 flex-1 truncate text-left"
                  aria-current={!asked && folder === one.path}
                  title={one.name}
                  onClick={() => {
                    setAsked("");
                    setFolder(one.path);
                    setRead(null);
                  }}
                  data-folder={one.path}
                >
                  {one.name}
                </button>
                {!isContainer(one) && (
                  <span className="text-soft text-[12.5px]">{one.messages.toLocaleString("en-GB")}</span>
                )}
              </li>
            ))}
          </ul>
        </nav>
        <div className="flex min-h-0 flex-col">
          <div
            className={`relative min-h-0 overflow-y-auto px-3 ${read ? "basis-[42%]" : "flex-1"}`}
            tabIndex={0}
          >
            {problem && (
              <p className="refused mb-2" role="alert">
                {problem}
              </p>
            )}
            {!shown && !problem && folders && folders.length > 0 && (
              <p className="text-soft">{asked ? "Searching…" : "Reading…"}</p>
            )}
            {folders?.length === 0 && <p className="text-soft">This recovery point has no folders.</p>}
            {shown && (
              <table className="grid-table table-fixed">
                <caption className="sr-only">
                  {asked ? "Items found" : `Items in ${chosen?.name ?? ""}`}
                </caption>
                <thead>
                  <tr>
                    <th scope="col" className="w-[26px]">
                      <span className="sr-only">Basket</span>
                    </th>
                    {holds === "message" && (
                      <th scope="col" className={heading ? "w-[112px]" : "w-[96px]"}>
                        From
                      </th>
                    )}
                    <th scope="col">{columns.title}</th>
                    {holds === "message" && (
                      <th scope="col" className="w-[22px]">
                        <span className="sr-only">Attachment</span>
                      </th>
                    )}
                    <th scope="col" className={`${heading ? "w-[128px]" : "w-[152px]"} max-[560px]:hidden`}>
                      {columns.time}
                    </th>
                  </tr>
                </thead>
                <tbody>
                  {shown.messages.map((message) => (
                    <tr key={message.path} className={read?.path === message.path ? "bg-selected" : ""}>
                      <td className="!py-[4px]">
                        <input
                          type="checkbox"
                          className="checkbox checkbox-xs"
                          aria-label={`Add to basket: ${titleOf(message)}`}
                          checked={inBasket(entryOf(message)) || covered(message.path)}
                          disabled={covered(message.path)}
                          onChange={() => toggle(entryOf(message))}
                        />
                      </td>
                      {holds === "message" && (
                        <td className="truncate !py-[4px]" title={message.from}>
                          {nameOf(message.from)}
                        </td>
                      )}
                      <td className="!py-[4px]">
                        <button
                          type="button"
                          className={`block w-full truncate text-left ${unread(message) ? "font-semibold" : ""}`}
                          title={`${message.subject} · ${formatBytes(message.size)}`}
                          onClick={() => setRead(message)}
                          data-message={message.path}
                        >
                          {titleOf(message)}
                          {unread(message) && <span className="sr-only"> (unread)</span>}
                        </button>
                      </td>
                      {holds === "message" && (
                        <td className="!py-[4px]">
                          {message.attachment && <Paperclip size={13} aria-label="has an attachment" />}
                        </td>
                      )}
                      <td className="text-soft !py-[4px] whitespace-nowrap max-[560px]:hidden">
                        {clockText(new Date(message.received), zone)}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
            {shown?.note && <p className="text-soft py-2">{shown.note}</p>}
            {shown && !shown.note && shown.messages.length === 0 && (
              <p className="text-soft py-2">This folder is empty.</p>
            )}
            {shown?.next && (
              <button type="button" className="text-primary py-2 underline" onClick={() => void more()}>
                {`${shown.messages.length.toLocaleString("en-GB")} of ${shown.total.toLocaleString("en-GB")}; show more`}
              </button>
            )}
          </div>
          {read && (
            <ReadMessage
              key={read.path}
              address={address}
              path={read.path}
              zone={zone}
              download={download}
              close={() => setRead(null)}
            />
          )}
        </div>
      </div>
    </>
  );
}

/** A message as it was: its head, its text in a frame that can do nothing, and its attachments. */
function ReadMessage({
  address,
  path,
  zone,
  download,
  close,
}: {
  address: string;
  path: string;
  zone: string;
  download: boolean;
  close: () => void;
}) {
  const [message, setMessage] = useState<Opened | null>(null);
  const [plain, setPlain] = useState(false);
  const [problem, setProblem] = useState<string | null>(null);
  const query = `path=${encodeURIComponent(path)}`;
  useEffect(() => {
    let current = true;
    callApi<{ message: Opened }>("GET", `${address}/message?${query}`).then(
      (answer) => current && setMessage(answer.message),
      (error) => current && setProblem(refusalOf(error)),
    );
    return () => {
      current = false;
    };
  }, [address, query]);
  const api = `/api/v1${address}/message`;
  return (
    <section className="border-line flex min-h-0 flex-1 flex-col border-t" aria-label="Item">
      <h3 className="flex items-center gap-2 px-3 pt-2 font-semibold">
        <span className="min-w-0 flex-1 truncate">
          {message ? message.subject || COLUMNS[message.holds].word : "Reading…"}
        </span>
        {message?.html && message.text && (
          <button
            type="button"
            className="text-soft text-[12.5px] font-normal underline"
            onClick={() => setPlain(!plain)}
          >
            {plain ? "Show formatted text" : "Show plain text"}
          </button>
        )}
        {download && (
          <a
            className="text-soft text-[12.5px] font-normal underline"
            href={`${api}/source?${query}`}
            download
          >
            Source
          </a>
        )}
        <button type="button" className="p-1" aria-label="Close the item" onClick={close}>
          <X size={14} />
        </button>
      </h3>
      {problem && (
        <p className="refused mx-3" role="alert">
          {problem}
        </p>
      )}
      {!message && !problem && <p className="text-soft px-3">Reading…</p>}
      {message && (
        <>
          {message.holds !== "message" && <ItemFields fields={message.fields} />}
          {message.holds === "message" && (
            <p className="text-soft px-3 pb-2 text-[13px]">
              {message.from || "no sender"} to {message.to.join(", ") || "no recipient"}
              {message.cc.length > 0 && `, copy to ${message.cc.join(", ")}`}
              {message.sent && ` · sent ${clockText(new Date(message.sent), zone)}`}
            </p>
          )}
          {message.attachments.length > 0 && (
            <ul className="flex flex-wrap gap-x-4 gap-y-1 px-3 pb-2" aria-label="Attachments">
              {message.attachments.map((one, number) => (
                // the order is the message's own
                // biome-ignore lint/suspicious/noArrayIndexKey: attachments have no other name
                <li key={number}>
                  {download ? (
                    <a
                      className="inline-flex items-center gap-1 text-[13px] underline"
                      href={`${api}/attachments/${number}?${query}`}
                      download
                    >
                      <Download size={13} aria-hidden="true" /> {one.name}
                      <span className="text-soft no-underline"> {formatBytes(one.size)}</span>
                    </a>
                  ) : (
                    <span className="text-[13px]">
                      {one.name} <span className="text-soft">{formatBytes(one.size)}</span>
                    </span>
                  )}
                </li>
              ))}
            </ul>
          )}
          {message.cut && (
            <p className="warned mx-3 mb-2">
              Only the beginning of this message is shown. Download it to read all of it.
            </p>
          )}
          {message.html && !plain ? (
            <iframe
              className="min-h-0 w-full flex-1 bg-white"
              title="Text of the message"
              // no scripts, no forms, no navigation; the page's own policy loads nothing from elsewhere
              sandbox=""
              referrerPolicy="no-referrer"
              srcDoc={`<!doctype html><meta charset="utf-8"><style>body{font:14px/1.5 sans-serif;margin:12px;color:#1d2126;overflow-wrap:anywhere}img{max-width:100%}</style>${message.html}`}
            />
          ) : (
            <pre
              className="min-h-0 flex-1 overflow-auto px-3 pb-3 font-sans break-words whitespace-pre-wrap"
              tabIndex={0}
            >
              {message.text || (message.holds === "message" ? "The message has no text." : "")}
            </pre>
          )}
        </>
      )}
    </section>
  );
}

/** What a calendar entry or contact says, line by line. */
function ItemFields({ fields }: { fields: Opened["fields"] }) {
  return (
    <dl className="grid grid-cols-[120px_minmax(0,1fr)] gap-x-3 gap-y-[2px] px-3 pb-2 text-[13px]">
      {fields.map(({ label, value }, at) => (
        // several lines may say the same
        // biome-ignore lint/suspicious/noArrayIndexKey: the order is the item's own
        <div key={at} className="contents">
          <dt className="text-soft">{label}</dt>
          <dd className="break-words">{value}</dd>
        </div>
      ))}
    </dl>
  );
}
