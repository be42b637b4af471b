import ICAL from "ical.js";
import { DateTime } from "luxon";
import { CodedError } from "@/core/codes";
import type { DavKind } from "./dav-kinds";

/** A line of what is shown of a calendar entry or contact. */
export interface ItemField {
  readonly label: string;
  readonly value: string;
}
export interface OpenedEntry {
  readonly title: string;
  readonly fields: readonly ItemField[];
  /** Description or note. */
  readonly text: string;
}

const FIELDS_MOST = 200;
const VALUE_MOST = 2000;
const TEXT_MOST = 512 * 1024;

/** A calendar entry or contact to look at, with times of UTC in `zone`. Throws `file.unreadable`. */
export function openEntry(bytes: Buffer, kind: DavKind, zone: string): OpenedEntry {
  try {
    const read = ICAL.parse(bytes.toString("utf8")) as unknown[];
    // several cards in one item come as a list of components
    const parsed = new ICAL.Component((Array.isArray(read[0]) ? read[0] : read) as unknown[]);
    const opened = kind === "calendar" ? openCalendar(parsed, zone) : openCard(parsed);
    return {
      title: opened.title.slice(0, VALUE_MOST),
      fields: opened.fields
        .filter(({ value }) => value !== "")
        .slice(0, FIELDS_MOST)
        .map(({ label, value }) => ({ label, value: value.slice(0, VALUE_MOST) })),
      text: opened.text.slice(0, TEXT_MOST),
    };
  } catch (error) {
    throw new CodedError("file.unreadable", `the item cannot be parsed: ${(error as Error).message}`);
  }
}

const textOf = (component: ICAL.Component, name: string): string => {
  const value: unknown = component.getFirstPropertyValue(name);
  return value === null || value === undefined ? "" : String(value).trim();
};

const PARTS = ["vevent", "vtodo", "vjournal"];

function openCalendar(calendar: ICAL.Component, zone: string): OpenedEntry {
  const parts = calendar.getAllSubcomponents().filter(({ name }) => PARTS.includes(name));
  const master = parts.find((part) => !part.getFirstProperty("recurrence-id")) ?? parts[0];
  if (!master) return { title: "", fields: [], text: "" };
  const changed = parts.length - 1;
  const at = (name: string) => timeText(master.getFirstProperty(name), zone);
  const alarms = master.getAllSubcomponents("valarm").length;
  return {
    title: textOf(master, "summary"),
    fields: [
      { label: master.name === "vtodo" ? "Starts" : "Begins", value: at("dtstart") },
      { label: "Ends", value: at("dtend") },
      { label: "Duration", value: durationText(textOf(master, "duration")) },
      { label: "Due", value: at("due") },
      { label: "Completed", value: at("completed") },
      { label: "Repeats", value: repeatText(master.getFirstPropertyValue("rrule"), zone) },
      { label: "Changed occurrences", value: changed > 0 ? String(changed) : "" },
      { label: "Location", value: textOf(master, "location") },
      { label: "Status", value: textOf(master, "status").toLowerCase() },
      { label: "Organiser", value: personText(master.getFirstProperty("organizer")) },
      ...master.getAllProperties("attendee").map((one) => ({ label: "Attendee", value: attendeeText(one) })),
      { label: "Reminders", value: alarms > 0 ? String(alarms) : "" },
    ],
    text: textOf(master, "description"),
  };
}

/** A time as a person reads it. One of UTC in the zone of whoever looks; another with the zone that it names. */
function timeText(property: ICAL.Property | null, zone: string): string {
  const value: unknown = property?.getFirstValue();
  if (!(value instanceof ICAL.Time)) return "";
  if (value.isDate) return DateTime.fromISO(value.toString()).setLocale("en-GB").toFormat("ccc d LLLL yyyy");
  const named = property!.getParameter("tzid");
  const utc = value.toString().endsWith("Z");
  const read = DateTime.fromISO(value.toString(), { zone: utc ? "utc" : "local" });
  const shown = utc ? read.setZone(zone) : read;
  if (!shown.isValid) return value.toString();
  const words = shown.setLocale("en-GB").toFormat("ccc d LLLL yyyy, HH:mm");
  return utc ? words : named ? `${words} (${named})` : words;
}

function durationText(text: string): string {
  const [, sign, weeks, days, hours, minutes, seconds] =
    /^([+-]?)P(?:(\d+)W)?(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?$/.exec(text) ?? [];
  const parts = [
    [weeks, "week"],
    [days, "day"],
    [hours, "hour"],
    [minutes, "minute"],
    [seconds, "second"],
  ].flatMap(([count, word]) =>
    count && Number(count) > 0 ? [`${count} ${word}${count === "1" ? "" : "s"}`] : [],
  );
  return parts.length ? `${sign === "-" ? "minus " : ""}${parts.join(", ")}` : text;
}

const UNITS: Readonly<Record<string, string>> = {
  SECONDLY: "second",
  MINUTELY: "minute",
  HOURLY: "hour",
  DAILY: "day",
  WEEKLY: "week",
  MONTHLY: "month",
  YEARLY: "year",
};
function repeatText(value: unknown, zone: string): string {
  if (!(value instanceof ICAL.Recur)) return "";
  const unit = UNITS[value.freq] ?? value.freq.toLowerCase();
  const every = value.interval > 1 ? `every ${value.interval} ${unit}s` : `every ${unit}`;
  const days = (value.parts as { BYDAY?: unknown[] }).BYDAY;
  const on = days?.length ? ` on ${days.map(String).join(", ")}` : "";
  const until = value.until
    ? `, until ${DateTime.fromISO(value.until.toString()).setZone(zone).setLocale("en-GB").toFormat("d LLLL yyyy")}`
    : "";
  return `${every}${on}${value.count ? `, ${value.count} times` : until}`;
}

const addressOf = (property: ICAL.Property): string =>
  String(property.getFirstValue() ?? "").replace(/^mailto:/i, "");
const parameter = (property: ICAL.Property, name: string): string =>
  String(property.getParameter(name) ?? "");
function personText(property: ICAL.Property | null): string {
  if (!property) return "";
  const name = parameter(property, "cn");
  return name ? `${name} <${addressOf(property)}>` : addressOf(property);
}
const attendeeText = (property: ICAL.Property): string => {
  const answer = parameter(property, "partstat").toLowerCase().replaceAll("-", " ");
  return `${personText(property)}${answer ? `, ${answer}` : ""}`;
};

const CARD_FIELDS: readonly (readonly [name: string, label: string])[] = [
  ["org", "Organisation"],
  ["title", "Position"],
  ["role", "Role"],
  ["email", "Email"],
  ["tel", "Telephone"],
  ["adr", "Address"],
  ["bday", "Birthday"],
  ["url", "Web page"],
  ["categories", "Categories"],
];

function openCard(card: ICAL.Component): OpenedEntry {
  const fields = CARD_FIELDS.flatMap(([name, label]) =>
    card.getAllProperties(name).map((property) => ({
      label,
      value: [
        property
          .getValues()
          .flat(3)
          .map((one: unknown) =>
            String(one ?? "")
              .trim()
              .replace(/^(mailto|tel):/i, ""),
          )
          .filter(Boolean)
          .join(", "),
        [property.getParameter("type")]
          .flat()
          .filter((one) => one && !/^(internet|pref|voice)$/i.test(String(one)))
          .map((one) => `(${/^cell$/i.test(String(one)) ? "mobile" : String(one).toLowerCase()})`)
          .join(" "),
      ]
        .filter(Boolean)
        .join(" "),
    })),
  );
  const photos = card.getAllProperties("photo").length;
  return {
    title: textOf(card, "fn"),
    fields: [...fields, { label: "Photograph", value: photos ? "included" : "" }],
    text: textOf(card, "note"),
  };
}
