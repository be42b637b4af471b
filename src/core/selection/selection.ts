import picomatch from "picomatch";

/** The clause What for files: folders with patterns in and out. Paths are absolute, `/`-separated. */
export interface FileSelection {
  readonly folders: readonly string[];
  /** When there are any, only files that match one are taken. A pattern without a slash is held against the name. */
  readonly include: readonly string[];
  /** Files and folders that match one are left out, with all below them. */
  readonly exclude: readonly string[];
}

export interface Selector {
  /** False when the folder and everything below it is left out. */
  takesFolder(path: string): boolean;
  takesFile(path: string): boolean;
}

type Matcher = (path: string, name: string) => boolean;

function matcherOf(pattern: string): Matcher {
  const options = { dot: true, nocase: false };
  if (!pattern.includes("/")) {
    const test = picomatch(pattern, options);
    return (_path, name) => test(name);
  }
  const anchored = pattern.startsWith("/") || pattern.startsWith("**") ? pattern : `**/${pattern}`;
  const test = picomatch(anchored.replace(/\/+$/, ""), options);
  return (path) => test(path);
}

const nameOf = (path: string): string => path.slice(path.lastIndexOf("/") + 1);

/** Compiles a selection. Patterns are shell patterns (`*`, `?`, `[…]`, `{…}`, `**`), case counts. */
export function compileSelection(selection: FileSelection): Selector {
  const include = selection.include.map(matcherOf);
  const exclude = selection.exclude.map(matcherOf);
  const leftOut = (path: string, name: string) => exclude.some((matches) => matches(path, name));
  return {
    takesFolder: (path) => exclude.length === 0 || !leftOut(path, nameOf(path)),
    takesFile: (path) => {
      if (exclude.length === 0 && include.length === 0) return true;
      const name = nameOf(path);
      if (leftOut(path, name)) return false;
      return include.length === 0 || include.some((matches) => matches(path, name));
    },
  };
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
  const folders = selection.folders.join(", ");
  const only = selection.include.length ? `, only ${selection.include.join(", ")}` : "";
  const without = selection.exclude.length ? `, without ${selection.exclude.join(", ")}` : "";
  return `Everything in ${folders}${only}${without}`;
}
