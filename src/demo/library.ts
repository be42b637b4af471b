import { mkdirSync, utimesSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";
import { Chance } from "./chance";

/** The museum's file library: teams and people whose files come and change, and one list that somebody overwrote. */
export const LIBRARY_PERSON = "ailsa";
export const LIBRARY_CLIENT = "deep-keep";
/** The list that is overwritten. */
export const OVERWRITTEN = "Objects and lenders.csv";
export const CATALOGUE = "Catalogue";

const TEAMS: Readonly<Record<string, readonly string[]>> = {
  [CATALOGUE]: ["Ships and models", "Charts", "Instruments"],
  Exhibitions: ["North wind 2027", "Lamps and buoys"],
};
const PEOPLE = ["Ailsa Brandreth", "Corin Hale"];
const OBJECTS = ["lamp", "sextant", "model", "chart", "anchor", "log", "flag", "compass"];
const LENDERS = ["Saltrow parish", "private", "harbour office", "pilots' guild"];
const FIRST_OBJECT = 1001;
const OBJECT_COUNT = 240;

export class LibraryLife {
  readonly folder: string;
  private readonly chance = new Chance(1871);

  constructor(folder: string) {
    this.folder = join(folder, "library");
  }

  /** The library as it is when it is connected; whoever signs in at its page has this password. */
  begin(password: string, clientSecret: string, at: Date): void {
    mkdirSync(this.folder, { recursive: true });
    const accounts = {
      people: [{ name: LIBRARY_PERSON, password }],
      clients: [
        {
          id: LIBRARY_CLIENT,
          secret: clientSecret,
          redirects: ["http://127.0.0.1*", "http://localhost*"],
        },
      ],
    };
    writeFileSync(join(this.folder, "accounts.json"), `${JSON.stringify(accounts, null, 2)}\n`, {
      mode: 0o600,
    });
    for (const [team, folders] of Object.entries(TEAMS))
      for (const folder of folders)
        for (let number = 1; number <= 6; number += 1)
          this.note(`teams/${team}/${folder}/Sheet ${number}.txt`, at);
    for (let number = 1; number <= 5; number += 1)
      this.put(`teams/${CATALOGUE}/Charts/Scan ${number}.tif`, this.chance.bytes(90_000), at);
    this.put(`teams/${CATALOGUE}/${OVERWRITTEN}`, this.list(), at);
    for (const person of PEOPLE)
      for (let number = 1; number <= 5; number += 1) this.note(`people/${person}/Letter ${number}.txt`, at);
  }

  /** A day at the museum: sheets and letters change, a scan comes. */
  day(at: Date): void {
    const team = this.chance.of(Object.keys(TEAMS));
    this.note(`teams/${team}/${this.chance.of(TEAMS[team]!)}/Sheet ${1 + this.chance.below(9)}.txt`, at);
    this.note(`people/${this.chance.of(PEOPLE)}/Letter ${1 + this.chance.below(8)}.txt`, at);
    this.put(
      `teams/${CATALOGUE}/Charts/Scan ${6 + this.chance.below(40)}.tif`,
      this.chance.bytes(60_000),
      at,
    );
  }

  /** Somebody saves an empty table over the list of all objects. */
  overwrite(at: Date): void {
    this.put(`teams/${CATALOGUE}/${OVERWRITTEN}`, "number;object;lender\n", at);
  }

  /** The library's own clock is today's: what is restored there in the story bears the time of the story. */
  restored(at: Date): void {
    utimesSync(join(this.folder, "files/teams", CATALOGUE, OVERWRITTEN), at, at);
  }

  private list(): string {
    let text = "number;object;lender\n";
    for (let number = 0; number < OBJECT_COUNT; number += 1)
      text += `${FIRST_OBJECT + number};${this.chance.of(OBJECTS)};${this.chance.of(LENDERS)}\n`;
    return text;
  }

  private note(path: string, at: Date): void {
    let text = "";
    for (let line = 0; line < 20; line += 1)
      text += `${FIRST_OBJECT + this.chance.below(OBJECT_COUNT)}: ${this.chance.of(OBJECTS)}, ${this.chance.of(LENDERS)}\n`;
    this.put(path, text, at);
  }

  private put(path: string, content: string | Buffer, at: Date): void {
    const file = join(this.folder, "files", path);
    mkdirSync(dirname(file), { recursive: true });
    writeFileSync(file, content);
    utimesSync(file, at, at);
  }
}
