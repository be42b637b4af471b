/** The views, in the order of the bar, with the letter that `g` leads to each by. */
export const VIEWS = [
  "watch",
  "sources",
  "policies",
  "depots",
  "runs",
  "restore",
  "statements",
  "trail",
] as const;
export type View = (typeof VIEWS)[number];

export const VIEW_NAMES: Record<View, string> = {
  watch: "Watch",
  sources: "Sources",
  policies: "Policies",
  depots: "Depots",
  runs: "Runs",
  restore: "Restore",
  statements: "Statements",
  trail: "Trail",
};
export const VIEW_LETTERS: Record<View, string> = {
  watch: "w",
  sources: "s",
  policies: "p",
  depots: "d",
  runs: "r",
  restore: "e",
  statements: "t",
  trail: "l",
};
export const isView = (text: string | undefined): text is View => VIEWS.includes(text as View);

/** A short name for addresses: `quill-lt-04 files` is `quill-lt-04-files`. */
export const slugOf = (text: string, most = 60): string =>
  text
    .normalize("NFKD")
    .replace(/\p{M}/gu, "")
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-+|-+$/g, "")
    .slice(0, most)
    .replace(/-$/, "");

/** The address of a view at a scope. `base` is `/all` or `/c/…`. */
export const addressOfView = (base: string, view: View): string => `${base}/${view}`;
export const baseOf = (clientSlug: string, siteSlug?: string, sourceName?: string): string =>
  `/c/${[clientSlug, siteSlug, sourceName ? slugOf(sourceName) : undefined].filter(Boolean).join("/")}`;
