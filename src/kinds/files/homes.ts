import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { type Home, homesInPasswd } from "@/core/selection/known-places";

const textOf = (path: string): string | null => {
  try {
    return readFileSync(path, "utf8");
  } catch {
    return null;
  }
};

/** The homes on a machine's disk: by its `/etc/passwd`, or, where it has none, the folders below `/home` and `/root`. */
export function homesOn(root: string): Home[] {
  const passwd = textOf(join(root, "etc/passwd"));
  return (passwd === null ? homesByFolder(root) : homesInPasswd(passwd)).map((path) => ({
    path,
    userDirs: textOf(join(root, path, ".config/user-dirs.dirs")),
  }));
}

function homesByFolder(root: string): string[] {
  try {
    const names = readdirSync(join(root, "home"), { withFileTypes: true });
    return [...names.filter((entry) => entry.isDirectory()).map(({ name }) => `/home/${name}`), "/root"];
  } catch {
    return ["/root"];
  }
}
