/**
 * Places that lie elsewhere on every machine, by a word in the clause What: whoever reads the machine finds out where they
 * are there, at each run.
 */
export const KNOWN_PLACES = {
  "@homes": { words: "everybody’s home folder", xdg: null, usual: "" },
  "@documents": { words: "everybody’s documents", xdg: "XDG_DOCUMENTS_DIR", usual: "Documents" },
  "@desktop": { words: "everybody’s desktop", xdg: "XDG_DESKTOP_DIR", usual: "Desktop" },
  "@pictures": { words: "everybody’s pictures", xdg: "XDG_PICTURES_DIR", usual: "Pictures" },
  "@mail": { words: "everybody’s local mail", xdg: null, usual: ".thunderbird" },
} as const satisfies Record<
  string,
  {
    readonly words: string;
    /** Its variable in a home's `.config/user-dirs.dirs` (xdg-user-dirs), which goes before the usual name. */
    readonly xdg: string | null;
    readonly usual: string;
  }
>;
export type KnownPlace = keyof typeof KNOWN_PLACES;

export const isKnownPlace = (folder: string): folder is KnownPlace => Object.hasOwn(KNOWN_PLACES, folder);

/** A home folder and what its `user-dirs.dirs` says, or null where it has none. */
export interface Home {
  readonly path: string;
  readonly userDirs: string | null;
}

/** The folder of a variable in a `user-dirs.dirs`: an absolute one, or one below `$HOME`; null where it names none. */
function userDir(home: Home, variable: string): string | null {
  for (const line of (home.userDirs ?? "").split("\n")) {
    const value = new RegExp(`^${variable}="(.*)"$`).exec(line.trim())?.[1];
    if (value === undefined) continue;
    const path = value.startsWith("$HOME") ? `${home.path}${value.slice(5)}` : value;
    const clean = path.replace(/\/+$/, "");
    if (!clean.startsWith("/") || clean.split("/").includes("..")) return null;
    // a folder that is the home itself says that there is none of its own
    return clean === home.path ? null : clean;
  }
  return null;
}

/** Where the chosen folders are on a machine with these homes: words become paths, the others stay. */
export function foldersOn(folders: readonly string[], homes: readonly Home[]): string[] {
  return folders.flatMap((folder) => {
    if (!isKnownPlace(folder)) return folder;
    const { xdg, usual } = KNOWN_PLACES[folder];
    return homes.map((home) => (xdg && userDir(home, xdg)) ?? (usual ? `${home.path}/${usual}` : home.path));
  });
}

/** Accounts of people in an `/etc/passwd`: their home folders. Accounts of services, under 1000, are left out, root is not. */
export function homesInPasswd(text: string): string[] {
  const homes = text.split("\n").flatMap((line) => {
    const [, , uid, , , home] = line.split(":");
    const number = Number(uid);
    const person = uid !== "" && (number === 0 || (number >= 1000 && number < 65_534));
    return person && home?.startsWith("/") && home !== "/" && !home.split("/").includes("..")
      ? home.replace(/\/+$/, "")
      : [];
  });
  return [...new Set(homes)];
}
