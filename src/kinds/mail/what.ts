import { z } from "zod";
import { patternSchema } from "@/core/selection/pattern-schema";
import { compileSelection } from "@/core/selection/selection";

/** What folders of a mailbox are for, as far as a policy leaves them out (RFC 8621, section 2; RFC 8457). */
export const LEFT_OUT_ROLES = {
  drafts: "drafts",
  junk: "junk",
  trash: "deleted items",
} as const;
export type LeftOutRole = keyof typeof LEFT_OUT_ROLES;
const ROLES = Object.keys(LEFT_OUT_ROLES) as [LeftOutRole, ...LeftOutRole[]];

const folder = z
  .string()
  .startsWith("/", "A mail folder is a path that begins with a slash, such as /Inbox/Suppliers.")
  .max(4096, "A path has at most 4096 characters.")
  .refine((path) => !path.includes("\0"), "A path has no NUL character.");

/** What a policy protects of a mailbox. */
export const mailWhat = z
  .object({
    /** None: all folders. */
    folders: z.array(folder).max(200).default([]),
    excludeRoles: z.array(z.enum(ROLES)).default([]),
    exclude: z.array(patternSchema).max(200).default([]),
    /** Of mailboxes whose connection has an address for them. */
    calendars: z.boolean().default(true),
    contacts: z.boolean().default(true),
    /** Messages received before this day are left out; it begins at midnight UTC. */
    receivedSince: z.iso.date("Enter a date such as 2026-11-30, or leave it empty.").nullable().default(null),
  })
  .refine((what) => !leavesAllFoldersOut(what), {
    when: ({ issues }) => issues.length === 0,
    path: ["exclude"],
    message: "These patterns exclude every folder; nothing would be kept.",
  });
export type MailWhat = z.infer<typeof mailWhat>;

const ANY_FOLDERS = ["/a", "/.b.c", "/D 1.e-f"];
const leavesAllFoldersOut = ({ exclude }: { readonly exclude: readonly string[] }): boolean =>
  exclude.length > 0 && ANY_FOLDERS.every((path) => !folderSelector(exclude)(path));

/** Tells whether a folder, by its path, is not among the excluded ones; what is below an excluded one is not asked about. */
const folderSelector = (exclude: readonly string[]) =>
  compileSelection({ folders: ["/"], include: [], exclude }).takesFolder;

/** Tells whether a policy excludes a folder, by its absolute, `/`-separated path and its role, and with it all below it. */
export function excludedFolders({
  exclude,
  excludeRoles,
}: Pick<MailWhat, "exclude" | "excludeRoles">): (path: string, role: string | null) => boolean {
  const takes = folderSelector(exclude);
  const roles: ReadonlySet<string> = new Set(excludeRoles);
  return (path, role) => (role !== null && roles.has(role)) || !takes(path);
}

export function mailWhatSentence({
  folders,
  exclude,
  excludeRoles,
  calendars,
  contacts,
  receivedSince,
}: MailWhat): string {
  const left = [
    ...excludeRoles.map((role) => LEFT_OUT_ROLES[role]),
    ...exclude,
    ...(calendars ? [] : ["calendars"]),
    ...(contacts ? [] : ["contacts"]),
  ];
  return [
    folders.length === 0 || folders.includes("/") ? "All mail" : `Mail in ${folders.join(", ")}`,
    ...(receivedSince ? [`received since ${receivedSince}`] : []),
    ...(left.length ? [`without ${left.join(", ")}`] : []),
  ].join(", ");
}
