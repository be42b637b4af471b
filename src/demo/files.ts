import {
  appendFileSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  utimesSync,
  writeFileSync,
} from "node:fs";
import { dirname, join } from "node:path";
import { MONTHS } from "@/core/retention/periods";
import { Chance } from "./chance";
import { coast } from "./picture";
import type { FileKind, WorldMachine } from "./world";

/** Writes and edits the files of the demo's machines, as its people would over a month. */

const FAMILY = [
  "Marrow",
  "Osprey",
  "Tallow",
  "Fennick",
  "Brindle",
  "Sorrel",
  "Hesper",
  "Quoin",
  "Larch",
  "Tamsin",
  "Pike",
  "Rowan",
  "Wick",
  "Ember",
];
const WORDS =
  "the of and harbour letter please find enclosed our account for week tide morning surgery visit result weight water boat stone measure line north wall received with thanks kindly invoice payment due rent window repair flour oven order crate delivery signal depth sample reading clear calm quay lantern".split(
    " ",
  );
const FOLDERS: Record<FileKind, string> = {
  letters: "Letters",
  ledger: "Ledger",
  photos: "Photos",
  drawings: "Surveys",
  readings: "Readings",
  recipes: "Recipes",
  scans: "Scans",
};

function paragraph(chance: Chance, length: number): string {
  let text = "";
  while (text.length < length) text += `${chance.of(WORDS)}${chance.below(12) === 0 ? ".\n" : " "}`;
  return text;
}

function nameOf(kind: FileKind, number: number, chance: Chance): string {
  const family = FAMILY[number % FAMILY.length];
  const year = 2024 + (number % 3);
  switch (kind) {
    case "letters":
      return `${year}/${chance.of(["Referral", "Reminder", "Answer", "Report"])} ${family} ${number}.txt`;
    case "ledger":
      return `${year}/${MONTHS[number % 12]} book ${Math.floor(number / 12) + 1}.csv`;
    case "photos":
      return `${family}/photo ${String(number).padStart(4, "0")}.png`;
    case "drawings":
      return `Parcel ${100 + number}/survey ${family}.dwg`;
    case "readings":
      return `${MONTHS[number % 12]}/tank ${(number % 6) + 1} day ${number}.csv`;
    case "recipes":
      return `${chance.of(["Bread", "Cakes", "Savoury"])}/${family} loaf ${number}.txt`;
    case "scans":
      return `${year}/scan ${family} ${String(number).padStart(4, "0")}.tif`;
  }
}

function contentOf(kind: FileKind, chance: Chance): Buffer {
  switch (kind) {
    case "photos":
      return coast(chance);
    case "drawings":
      return chance.bytes(300_000 + chance.below(400_000));
    case "scans":
      return Buffer.concat(
        Array.from({ length: 30 }, () => Buffer.alloc(400 + chance.below(400), chance.below(256))),
      );
    case "ledger":
    case "readings":
      return Buffer.from(
        Array.from(
          { length: 60 + chance.below(140) },
          (_, i) => `${i + 1},${chance.of(FAMILY)},${(chance.next() * 900).toFixed(2)},${chance.of(WORDS)}\n`,
        ).join(""),
      );
    default:
      return Buffer.from(paragraph(chance, 1500 + chance.below(5000)));
  }
}

/** One machine's disk, lived with. */
export class MachineLife {
  private readonly chance: Chance;
  private number = 0;

  constructor(
    readonly machine: WorldMachine,
    readonly disk: string,
  ) {
    this.chance = new Chance(
      [...machine.name].reduce((sum, letter) => Math.imul(sum, 31) + letter.charCodeAt(0), 7),
    );
  }

  private path(relative: string): string {
    return join(this.disk, this.machine.home, relative);
  }

  private write(relative: string, content: Buffer, at: Date): void {
    const path = this.path(relative);
    mkdirSync(dirname(path), { recursive: true });
    writeFileSync(path, content);
    utimesSync(path, at, at);
    utimesSync(dirname(path), at, at);
  }

  private add(kind: FileKind, at: Date): void {
    this.number += 1;
    this.write(
      `${FOLDERS[kind]}/${nameOf(kind, this.number, this.chance)}`,
      contentOf(kind, this.chance),
      at,
    );
  }

  /** The machine as it is before the story begins. */
  begin(at: Date): void {
    mkdirSync(join(this.disk, "etc"), { recursive: true });
    writeFileSync(join(this.disk, "etc/hostname"), `${this.machine.name}\n`);
    writeFileSync(join(this.disk, "etc/os-release"), `PRETTY_NAME="${this.machine.system}"\n`);
    for (const kind of this.machine.kinds) {
      for (let i = 0; i < this.machine.size; i += 1)
        this.add(kind, new Date(at.getTime() - this.chance.below(400) * 86_400_000));
    }
    this.write("Templates/letterhead.txt", Buffer.from(paragraph(this.chance, 900)), at);
    this.write("Templates/consent form.txt", Buffer.from(paragraph(this.chance, 1400)), at);
    this.write("Rota winter.csv", contentOf("ledger", this.chance), at);
  }

  private files(): string[] {
    const found: string[] = [];
    const visit = (folder: string) => {
      for (const entry of readdirSync(folder, { withFileTypes: true })) {
        const path = join(folder, entry.name);
        if (entry.isDirectory()) visit(path);
        else found.push(path);
      }
    };
    visit(this.path("."));
    return found.sort();
  }

  /** A day of work: a few edits, some new files, now and then one thrown away. */
  day(at: Date, weekend: boolean): void {
    const edits = weekend ? this.chance.below(2) : 1 + this.chance.below(4);
    const files = this.files();
    for (let i = 0; i < edits; i += 1) {
      const path = this.chance.of(files);
      if (!existsSync(path) || /\.(jpg|dwg)$/.test(path)) continue;
      appendFileSync(path, paragraph(this.chance, 60 + this.chance.below(200)));
      utimesSync(path, at, at);
    }
    this.write(
      "Rota winter.csv",
      Buffer.concat([
        readFileSync(this.path("Rota winter.csv")),
        Buffer.from(`${at.toISOString()},${this.chance.of(FAMILY)}\n`),
      ]),
      at,
    );
    if (!weekend)
      for (let i = this.chance.below(3); i > 0; i -= 1) this.add(this.chance.of(this.machine.kinds), at);
    if (this.chance.below(6) === 0) {
      const gone = this.chance.of(files);
      if (!gone.includes("Templates") && !gone.includes("Rota")) rmSync(gone, { force: true });
    }
  }

  /** Somebody deletes a folder. */
  deleteFolder(relative: string): void {
    rmSync(this.path(relative), { recursive: true });
  }

  /** Something overwrites a part of the files with noise, as a program that encrypts does. */
  encrypt(share: number, at: Date): void {
    const files = this.files();
    for (const path of files.slice(0, Math.ceil(files.length * share))) {
      writeFileSync(path, this.chance.bytes(Math.max(1024, statSync(path).size)));
      utimesSync(path, at, at);
    }
  }
}
