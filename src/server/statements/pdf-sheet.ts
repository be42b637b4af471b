import { readFileSync } from "node:fs";
import { join } from "node:path";
import PDFDocument from "pdfkit";
import type { Paper } from "@/db/notices/statements";

/**
 * A tagged PDF 1.7 (ISO 32000-1) with bookmarks and fonts of its own, for A4 or US Letter. Every part of it has its place
 * in the structure tree, drawings have their words, and what only frames a page is marked as such.
 */

export const MARGIN = 48;
/** From line to line in a table, in points. */
const LINE = 11;
export const INK = "#23272f";
export const SOFT = "#5c6470";
export const RULE = "#d5d2cb";

const FONTS = join(process.cwd(), "node_modules/@fontsource");
const STYLES = { plain: 400, strong: 700 } as const;
type Style = keyof typeof STYLES;
/** The faces of a style: characters that the first does not have are taken from the next that has them. */
const FACES = [
  "atkinson-hyperlegible-next latin",
  "atkinson-hyperlegible-next latin-ext",
  "noto-sans greek",
  "noto-sans greek-ext",
  "noto-sans cyrillic",
  "noto-sans cyrillic-ext",
  "noto-sans vietnamese",
] as const;
type Face = (typeof FACES)[number];
const fileOf = (face: Face, weight: number): Buffer => {
  const [family, subset] = face.split(" ");
  return readFileSync(join(FONTS, `${family}/files/${family}-${subset}-${weight}-normal.woff`));
};

/** Characters that the first face has for certain: most texts are of these alone. */
const PLAIN = /^[ -~\u00a0-\u00ff]*$/;

/** What this file needs of a font that is loaded. */
interface Loaded {
  hasGlyphForCodePoint(code: number): boolean;
}

interface Column {
  readonly title: string;
  readonly width: number;
  readonly right?: boolean;
}

/** Writes parts of a document one below the other, and breaks pages. */
export class Sheet {
  readonly doc: PDFKit.PDFDocument;
  private readonly root: PDFKit.PDFStructureElement;
  private section: PDFKit.PDFStructureElement;
  private readonly loaded = new Map<string, Loaded>();
  private style: Style = "plain";
  private colour = INK;

  constructor(paper: Paper, title: string, author: string, made: Date) {
    this.doc = new PDFDocument({
      size: paper === "a4" ? "A4" : "LETTER",
      margin: MARGIN,
      // its parts bring their fonts: no other is asked for
      font: null as unknown as string,
      pdfVersion: "1.7",
      tagged: true,
      lang: "en",
      displayTitle: true,
      bufferPages: true,
      info: { Title: title, Author: author, Creator: "Deep Keep", CreationDate: made },
    });
    this.root = this.doc.struct("Document");
    this.doc.addStructure(this.root);
    this.section = this.root;
    this.use("plain", 10);
  }

  get width(): number {
    return this.doc.page.width - 2 * MARGIN;
  }
  private get bottom(): number {
    return this.doc.page.height - MARGIN - 18;
  }

  use(style: Style, size: number, colour = INK): this {
    this.style = style;
    this.colour = colour;
    this.doc.font(this.named(FACES[0])).fontSize(size).fillColor(colour);
    return this;
  }

  /** The name of a face of this style in the document, which takes it up at its first use. */
  private named(face: Face): string {
    const name = `${this.style} ${face}`;
    if (!this.loaded.has(name)) {
      this.doc.registerFont(name, fileOf(face, STYLES[this.style]));
      this.doc.font(name);
      this.loaded.set(name, (this.doc as unknown as { _font: { font: Loaded } })._font.font);
    }
    return name;
  }
  private has(face: Face, code: number): boolean {
    return this.loaded.get(this.named(face))!.hasGlyphForCodePoint(code);
  }

  /** Room for so much more on this page, or a new one. Returns whether it is a new one. */
  room(height: number): boolean {
    if (this.doc.y + height <= this.bottom) return false;
    this.doc.addPage();
    return true;
  }

  /** Pieces of a text, each with the face that has its characters. */
  private pieces(text: string): { face: string; text: string }[] {
    const first = this.named(FACES[0]);
    if (PLAIN.test(text)) return [{ face: first, text }];
    const pieces: { face: string; text: string }[] = [];
    for (const char of text) {
      const code = char.codePointAt(0)!;
      const found = FACES.find((one) => this.has(one, code)) ?? null;
      const face = found ? this.named(found) : first;
      const last = pieces.at(-1);
      const shown = found ? char : "?";
      if (last?.face === face) last.text += shown;
      else pieces.push({ face, text: shown });
    }
    return pieces.length ? pieces : [{ face: first, text: "" }];
  }

  widthOf(text: string): number {
    let width = 0;
    for (const piece of this.pieces(text)) width += this.doc.font(piece.face).widthOfString(piece.text);
    this.doc.font(this.named(FACES[0]));
    return width;
  }

  /** A text on one line, or on two that part at a space; what is longer still is cut with an ellipsis. */
  twoLines(text: string, width: number): string[] {
    if (this.widthOf(text) <= width) return [text];
    const words = text.split(" ");
    let first = words.shift()!;
    while (words.length && this.widthOf(`${first} ${words[0]}`) <= width) first += ` ${words.shift()}`;
    return [first, words.join(" ")].filter(Boolean).map((line) => this.fitted(line, width));
  }

  /** Lines of text that fit where they stand, as one element of the structure. */
  cell(
    parent: PDFKit.PDFStructureElement,
    type: string,
    lines: readonly string[],
    x: number,
    y: number,
    width: number,
    right: boolean,
  ): void {
    const write = () => {
      lines.forEach((text, i) => {
        let at = right ? x + width - this.widthOf(text) : x;
        for (const piece of this.pieces(text)) {
          this.doc.font(piece.face).text(piece.text, at, y + i * LINE, { lineBreak: false });
          at += this.doc.widthOfString(piece.text);
        }
      });
      this.doc.font(this.named(FACES[0]));
    };
    parent.add(this.doc.struct(type, {}, write));
  }

  /** Text from a place on, over as many lines as it needs, as one element of the structure. */
  put(
    parent: PDFKit.PDFStructureElement,
    type: string,
    text: string,
    x: number,
    y: number,
    width: number,
  ): void {
    const pieces = this.pieces(text);
    const write = () => {
      pieces.forEach((piece, i) => {
        const told = { width, lineGap: 1.5, continued: i < pieces.length - 1 };
        this.doc.font(piece.face);
        if (i === 0) this.doc.text(piece.text, x, y, told);
        else this.doc.text(piece.text, told);
      });
      this.doc.font(this.named(FACES[0]));
    };
    parent.add(this.doc.struct(type, {}, write));
  }

  /** A text that is cut with an ellipsis where it does not fit one line. */
  fitted(text: string, width: number): string {
    if (this.widthOf(text) <= width) return text;
    let [low, high] = [0, text.length];
    while (low < high) {
      const middle = Math.ceil((low + high) / 2);
      if (this.widthOf(`${text.slice(0, middle)}…`) <= width) low = middle;
      else high = middle - 1;
    }
    return `${text.slice(0, low)}…`;
  }

  /** A bar of a colour over the first page, and a logo above the text, at the right. Before anything else is written. */
  letterhead(colour: string | null, logo: Buffer | null, words: string): void {
    const { width } = this.doc.page;
    if (colour) {
      this.doc.markContent("Artifact", { type: "Layout" });
      this.doc.rect(0, 0, width, 6).fill(colour);
      this.doc.endMarkedContent();
    }
    const { y } = this.doc;
    if (logo)
      this.figure(words, () => {
        this.doc.image(logo, width - MARGIN - 120, 12, { fit: [120, 32], align: "right", valign: "center" });
      });
    this.doc.y = y;
  }

  /** Begins a section with its heading, and a bookmark to it. */
  begin(title: string, needs = 60, level: "H1" | "H2" = "H2"): void {
    this.room(needs);
    this.doc.y += 12;
    this.section = this.doc.struct("Sect");
    this.root.add(this.section);
    this.doc.outline.addItem(title);
    this.use("strong", 11.5);
    this.put(this.section, level, title, MARGIN, this.doc.y, this.width);
    this.doc.y += 3;
    this.use("plain", 10);
  }

  line(text: string, type = "P", parent: PDFKit.PDFStructureElement = this.section, indent = 0): void {
    const width = this.width - indent;
    this.room(Math.ceil(this.widthOf(text) / width) * 14 + 2);
    this.put(parent, type, text, MARGIN + indent, this.doc.y, width);
    this.doc.y += 2;
  }

  list(items: readonly { readonly text: string; readonly more?: readonly string[] }[]): void {
    const list = this.doc.struct("L");
    this.section.add(list);
    for (const item of items) {
      const one = this.doc.struct("LI");
      list.add(one);
      this.line(item.text, "LBody", one);
      for (const more of item.more ?? []) {
        this.use("plain", 9.5, SOFT);
        this.line(more, "LBody", one, 14);
        this.use("plain", 10);
      }
      one.end();
    }
    list.end();
  }

  /** A drawing, with what it shows in words. */
  figure(words: string, draw: () => void, parent: PDFKit.PDFStructureElement = this.section): void {
    parent.add(
      this.doc.struct("Figure", { alt: words }, () => {
        draw();
        this.doc.fillColor(this.colour);
      }),
    );
  }

  /** A table whose heading stands again on each page. `draw` may draw into the last column of a row. */
  table(
    columns: readonly Column[],
    rows: readonly (readonly string[])[],
    drawn?: (row: number, x: number, y: number, width: number) => { words: string; draw: () => void },
  ): void {
    const table = this.doc.struct("Table");
    this.section.add(table);
    const shares = columns.reduce((sum, column) => sum + column.width, 0);
    const widths = columns.map((column) => (column.width / shares) * this.width);
    const lineOf = (cells: readonly string[], type: "TH" | "TD", index: number) => {
      const row = this.doc.struct("TR");
      table.add(row);
      const y = this.doc.y;
      let x = MARGIN;
      let most = 1;
      columns.forEach((column, i) => {
        const width = widths[i]! - 6;
        if (drawn && type === "TD" && i === columns.length - 1) {
          const cell = this.doc.struct("TD");
          row.add(cell);
          const { words, draw } = drawn(index, x, y, width);
          this.figure(words, draw, cell);
          cell.end();
        } else {
          const heads = type === "TD" && i === 0 ? "TH" : type;
          const lines = this.twoLines(cells[i]!, width);
          most = Math.max(most, lines.length);
          this.cell(row, heads, lines, x, y, width, column.right ?? false);
        }
        x += widths[i]!;
      });
      row.end();
      this.doc.y = y + 3.5 + most * LINE;
    };
    const heading = () => {
      this.use("strong", 8.5, SOFT);
      lineOf(
        columns.map((column) => column.title),
        "TH",
        -1,
      );
      this.use("plain", 9);
    };
    this.room(40);
    heading();
    rows.forEach((cells, index) => {
      if (this.room(4 + 2 * LINE)) heading();
      this.doc.markContent("Artifact", { type: "Layout" });
      this.doc
        .moveTo(MARGIN, this.doc.y - 2.5)
        .lineTo(MARGIN + this.width, this.doc.y - 2.5)
        .lineWidth(0.5)
        .strokeColor(RULE)
        .stroke();
      this.doc.endMarkedContent();
      lineOf(cells, "TD", index);
    });
    table.end();
    this.use("plain", 10);
  }

  /** Ends it: what stands at the foot of every page, and the bytes. */
  async finish(foot: string): Promise<Buffer> {
    this.root.end();
    const { start, count } = this.doc.bufferedPageRange();
    for (let page = start; page < start + count; page += 1) {
      this.doc.switchToPage(page);
      this.use("plain", 8.5, SOFT);
      // at the foot there is no room for text by the page's own margins
      this.doc.page.margins.bottom = 0;
      this.doc.markContent("Artifact", { type: "Pagination", attached: ["Bottom"] });
      const y = this.doc.page.height - MARGIN;
      const number = `page ${page + 1} of ${count}`;
      this.doc.text(this.fitted(foot, this.width - 90), MARGIN, y, { lineBreak: false });
      this.doc.text(number, MARGIN + this.width - this.widthOf(number), y, { lineBreak: false });
      this.doc.endMarkedContent();
    }
    const chunks: Buffer[] = [];
    this.doc.on("data", (chunk: Buffer) => chunks.push(chunk));
    const ended = new Promise<void>((resolve, reject) => {
      this.doc.once("end", resolve);
      this.doc.once("error", reject);
    });
    this.doc.end();
    await ended;
    return Buffer.concat(chunks);
  }
}
