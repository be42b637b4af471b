/** What CalDAV and CardDAV store: calendars of iCalendar entries (RFC 5545), address books of vCards (RFC 6350). */
export const DAV_KINDS = ["calendar", "addressbook"] as const;
export type DavKind = (typeof DAV_KINDS)[number];
export const EXTENSION: Readonly<Record<DavKind, string>> = { calendar: "ics", addressbook: "vcf" };
