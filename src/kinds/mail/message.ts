import PostalMime, { type Address, type Attachment } from "postal-mime";
import sanitizeHtml from "sanitize-html";
import { CodedError } from "@/core/codes";

/** What a list of messages shows of one. */
export interface MessageHead {
  readonly subject: string;
  /** Name and address as people write them: `Maren Pell <maren@pell.example>`. */
  readonly from: string;
  readonly to: readonly string[];
  readonly cc: readonly string[];
  /** ISO 8601, as the sender says; null where it says none. */
  readonly sent: string | null;
  readonly messageId: string | null;
  /** A part beside the text: by the structure that its head declares. */
  readonly attachment: boolean;
}

export interface OpenMessage extends MessageHead {
  readonly text: string;
  /** Safe to show in a sandboxed frame: no scripts, no forms, nothing from elsewhere; null where the message has none. */
  readonly html: string | null;
  readonly attachments: readonly { readonly name: string; readonly type: string; readonly size: number }[];
  /** Only the beginning of the message was read, or of its text is shown. */
  readonly cut: boolean;
}

/** So much of a message is read for its head. */
export const HEAD_BYTES = 64 * 1024;
/** So much is read to show it; attachments behind it are not listed. */
export const SHOWN_BYTES = 24 * 1024 * 1024;
const TEXT_SHOWN = 512 * 1024;
/** Parts nested deeper are not parts of a letter. */
const DEEPEST = 64;
const LIMITS = { maxNestingDepth: DEEPEST, maxHeadersSize: 1024 * 1024, maxRfc822NestingDepth: 4 };

const addressText = ({ name, address, group }: Address): string[] =>
  group ? group.flatMap(addressText) : [name && address ? `${name} <${address}>` : (address ?? name ?? "")];
const addressesText = (list: readonly Address[] | undefined): string[] =>
  (list ?? []).flatMap(addressText).filter(Boolean);

/** The head of a message (RFC 5322) from its first bytes. What cannot be parsed is empty. */
export async function messageHead(bytes: Buffer): Promise<MessageHead> {
  const end = /\r?\n\r?\n/.exec(bytes.toString("latin1"))?.index ?? bytes.length;
  const head = bytes.subarray(0, end);
  const parsed = await PostalMime.parse(Buffer.concat([head, Buffer.from("\r\n\r\n")]), LIMITS).catch(
    () => null,
  );
  const type = parsed?.headers.find((header) => header.key === "content-type")?.value ?? "";
  return {
    subject: parsed?.subject ?? "",
    from: parsed?.from ? (addressText(parsed.from)[0] ?? "") : "",
    to: addressesText(parsed?.to),
    cc: addressesText(parsed?.cc),
    sent: isoOf(parsed?.date),
    messageId: parsed?.messageId?.replace(/^<|>$/g, "") ?? null,
    attachment:
      /^\s*multipart\/(mixed|report)/i.test(type) || /^\s*(application|image|audio|video)\//i.test(type),
  };
}

const isoOf = (date: string | undefined): string | null => {
  const at = Date.parse(date ?? "");
  return Number.isNaN(at) ? null : new Date(at).toISOString();
};

async function parsedOf(bytes: Buffer) {
  try {
    return await PostalMime.parse(bytes, LIMITS);
  } catch (error) {
    throw new CodedError("file.unreadable", `the message cannot be parsed: ${(error as Error).message}`);
  }
}

/** A message to look at. Throws `file.unreadable` for one whose parts are nested without end. */
export async function openMessage(bytes: Buffer, size: number): Promise<OpenMessage> {
  const parsed = await parsedOf(bytes);
  const head = await messageHead(bytes);
  const text = parsed.text ?? "";
  const raw = parsed.html ?? null;
  const html = raw && raw.length <= TEXT_SHOWN ? safeHtml(raw, parsed.attachments) : null;
  const listed = attachmentsOf(parsed.attachments);
  return {
    ...head,
    attachment: listed.length > 0,
    text: text.slice(0, TEXT_SHOWN),
    html,
    attachments: listed.map(({ filename, mimeType, content }, at) => ({
      name: filename || `part ${at + 1}`,
      type: mimeType,
      size: Buffer.from(content as ArrayBuffer).length,
    })),
    cut: size > bytes.length || text.length > TEXT_SHOWN || (raw !== null && html === null),
  };
}

/** What of a message is searched for words: its text, and the names of its attachments. Null: it cannot be parsed. */
export async function searchedTexts(
  bytes: Buffer,
): Promise<{ readonly texts: readonly string[]; readonly attachments: number } | null> {
  const parsed = await PostalMime.parse(bytes, LIMITS).catch(() => null);
  if (!parsed) return null;
  const attachments = attachmentsOf(parsed.attachments);
  return {
    texts: [
      parsed.text ?? "",
      (parsed.html ?? "").replaceAll(/<[^<>]*>/g, " "),
      ...attachments.flatMap(({ filename }) => filename ?? []),
    ],
    attachments: attachments.length,
  };
}

/** What people call attachments: not the pictures that the text itself shows. */
const attachmentsOf = (all: readonly Attachment[]): Attachment[] =>
  all.filter((one) => !(one.related && one.contentId && one.mimeType.startsWith("image/")));

/** One attachment by its number in `openMessage`; null where there is none. */
export async function attachmentOf(
  bytes: Buffer,
  number: number,
): Promise<{ readonly name: string; readonly type: string; readonly content: Buffer<ArrayBuffer> } | null> {
  const found = attachmentsOf((await parsedOf(bytes)).attachments)[number];
  return found
    ? {
        name: found.filename || `part ${number + 1}`,
        type: found.mimeType,
        content: Buffer.from(found.content as ArrayBuffer),
      }
    : null;
}

const PICTURES = /^image\/(png|jpeg|gif|webp)$/;
const PICTURE_MOST = 4 * 1024 * 1024;
const COLOUR = [/^#[0-9a-f]{3,8}$/i, /^rgba?\([\d\s,.%]+\)$/i, /^[a-z]{3,20}$/i];

/**
 * A message's HTML without everything that acts, loads or leaves its box: no scripts, styles of the page, forms, links or
 * remote pictures. Pictures that the message itself carries are put in.
 */
export function safeHtml(html: string, attachments: readonly Attachment[] = []): string {
  const pictures = new Map(
    attachments.flatMap((one) => {
      const bytes = Buffer.from(one.content as ArrayBuffer);
      if (!one.contentId || !PICTURES.test(one.mimeType) || bytes.length > PICTURE_MOST) return [];
      return [
        [one.contentId.replace(/^<|>$/g, ""), `data:${one.mimeType};base64,${bytes.toString("base64")}`],
      ] as const;
    }),
  );
  return sanitizeHtml(html, {
    allowedTags: [...sanitizeHtml.defaults.allowedTags, "img", "font", "center", "del", "ins"],
    allowedAttributes: {
      "*": ["align", "valign", "bgcolor", "color", "style", "title", "dir", "lang"],
      img: ["src", "alt", "width", "height"],
      td: ["colspan", "rowspan", "width"],
      th: ["colspan", "rowspan", "width"],
      table: ["border", "cellpadding", "cellspacing", "width"],
    },
    allowedStyles: {
      "*": {
        color: COLOUR,
        "background-color": COLOUR,
        "text-align": [/^(left|right|center|justify)$/],
        "font-weight": [/^(bold|bolder|normal|[1-9]00)$/],
        "font-style": [/^(italic|normal)$/],
        "text-decoration": [/^(underline|line-through|none)$/],
      },
    },
    allowedSchemes: [],
    allowedSchemesByTag: { img: ["data"] },
    allowProtocolRelative: false,
    nestingLimit: DEEPEST,
    transformTags: {
      // where a link leads is told, not followed
      a: (_tag, { href }): sanitizeHtml.Tag => ({
        tagName: "span",
        attribs: href ? { title: href.slice(0, 500) } : {},
      }),
      img: (_tag, { src = "", alt = "", width, height }): sanitizeHtml.Tag => {
        const own = src.startsWith("cid:") ? pictures.get(src.slice(4)) : undefined;
        const data = /^data:image\/(png|jpeg|gif|webp);base64,[A-Za-z0-9+/=\s]+$/.test(src) ? src : undefined;
        const shown = own ?? data;
        return shown
          ? {
              tagName: "img",
              attribs: { src: shown, alt, ...(width && { width }), ...(height && { height }) },
            }
          : { tagName: "span", attribs: { title: "A remote image that was not loaded" }, text: alt || "▧" };
      },
    },
  });
}
