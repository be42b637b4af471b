import { formatBytes } from "../units/bytes";
import { counted } from "../units/duration";
import { isKnownPlace, KNOWN_PLACES } from "./known-places";
import { namePattern, pathPattern } from "./pattern";

/** The clause What for files: folders with patterns in and out. Paths are absolute, `/`-separated, or known places. */
export interface FileSelection {
  readonly folders: readonly string[];
  /** When there are any, only files that match one are taken. A pattern without a slash is held against the name. */
  readonly include: readonly string[];
  /** Files and folders that match one are left out, with all below them. */
  readonly exclude: readonly string[];
  /** Leaves out what systems and programs make anew by themselves: `RUBBISH`. */
  readonly rubbish?: boolean;
  /** Files larger than this are left out, bytes. */
  readonly largestBytes?: number | null;
  /** Files that were not written to for more days than this are left out. */
  readonly changedWithinDays?: number | null;
}

/** What nobody wants back: caches, wastebaskets, swap, and what a running system shows as files. */
export const RUBBISH: readonly string[] = [
  "/proc",
  "/sys",
  "/dev",
  "/run",
  "/tmp",
  "/var/tmp",
  "/var/cache",
  "/swapfile",
  "lost+found",
  ".cache",
  ".thumbnails",
  ".Trash",
  ".Trash-*",
  "**/.local/share/Trash",
  "$RECYCLE.BIN",
  "System Volume Information",
  "pagefile.sys",
  "hiberfil.sys",
  "Thumbs.db",
  ".DS_Store",
  "*.swp",
];

export interface Selector {
  /** False when the folder and everything below it is left out. */
  takesFolder(path: string): boolean;
  /** Size in bytes and time of the last change in nanoseconds since 1970, where they are known. */
  takesFile(path: string, size?: number, mtime?: bigint): boolean;
}

type Matcher = (path: string, name: string) => boolean;

function matcherOf(pattern: string): Matcher {
  if (!pattern.includes("/")) {
    const test = namePattern(pattern);
    return (_path, name) => test(name);
  }
  const anchored = pattern.startsWith("/") || pattern.startsWith("**") ? pattern : `**/${pattern}`;
  const test = pathPattern(anchored);
  return (path) => test(path);
}

const nameOf = (path: string): string => path.slice(path.lastIndexOf("/") + 1);

/** Compiles a selection. Patterns are those of pattern.ts; case counts. Ages are told from `now`. */
export function compileSelection(selection: FileSelection, now: Date = new Date(0)): Selector {
  const include = selection.include.map(matcherOf);
  const exclude = [...selection.exclude, ...(selection.rubbish ? RUBBISH : [])].map(matcherOf);
  const leftOut = (path: string, name: string) => exclude.some((matches) => matches(path, name));
  const largest = selection.largestBytes ?? null;
  const days = selection.changedWithinDays ?? null;
  const oldest = days === null ? null : BigInt(now.getTime() - days * 86_400_000) * 1_000_000n;
  return {
    takesFolder: (path) => exclude.length === 0 || !leftOut(path, nameOf(path)),
    takesFile: (path, size, mtime) => {
      if (largest !== null && size !== undefined && size > largest) return false;
      if (oldest !== null && mtime !== undefined && mtime < oldest) return false;
      if (exclude.length === 0 && include.length === 0) return true;
      const name = nameOf(path);
      if (leftOut(path, name)) return false;
      return include.length === 0 || include.some((matches) => matches(path, name));
    },
  };
}

/** Names that have nothing in common: a pattern that takes them all takes any. */
const ANY_NAMES = ["a", ".b.c", "D 1.e-f"];
/**
 * True when its patterns certainly leave out every file of every chosen folder, whatever lies there. Patterns that only
 * happen to match all that is there can't be told without a tree.
 */
export function leavesAllOut({ folders, include, exclude }: FileSelection): boolean {
  if (include.length > 0 && include.every((pattern) => exclude.includes(pattern))) return true;
  const selector = compileSelection({ folders, include: [], exclude });
  const above = (path: string): string[] =>
    path.split("/").map((_part, i, parts) => parts.slice(0, i + 1).join("/") || "/");
  return folders.every((folder) => {
    const path = isKnownPlace(folder) ? `/${folder}` : folder.replace(/\/+$/, "");
    return (
      ANY_NAMES.every((name) => !selector.takesFile(`${path}/${name}`)) ||
      above(path || "/").some((one) => one !== "/" && !selector.takesFolder(one))
    );
  });
}

/** Chosen folders without those that lie inside another chosen one, so that nothing is read twice. */
export function outermostFolders(folders: readonly string[]): string[] {
  const clean = [
    ...new Set(folders.map((folder) => (folder === "/" ? "/" : folder.replace(/\/+$/, "")))),
  ].sort();
  return clean.filter(
    (folder) => !clean.some((other) => other !== folder && (other === "/" || folder.startsWith(`${other}/`))),
  );
}

/** The selection as a sentence. */
export function selectionSentence(selection: FileSelection): string {
  const folders = selection.folders
    .map((folder) => (isKnownPlace(folder) ? KNOWN_PLACES[folder].words : folder))
    .join(", ");
  const only = selection.include.length ? `, only ${selection.include.join(", ")}` : "";
  const without = selection.exclude.length ? `, without ${selection.exclude.join(", ")}` : "";
  const rubbish = selection.rubbish ? " and without system files" : "";
  const largest = selection.largestBytes ? `, no file over ${formatBytes(selection.largestBytes)}` : "";
  const recent = selection.changedWithinDays
    ? `, only what changed within ${counted(selection.changedWithinDays, "day")}`
    : "";
  return `Everything in ${folders}${only}${without}${without ? rubbish : rubbish.replace(" and", ",")}${largest}${recent}`;
}
