import { mkdirSync } from "node:fs";
import MailComposer from "nodemailer/lib/mail-composer/index.js";
import {
  type Collection,
  type Mailbox,
  MailTenants,
  STANDARD_FOLDERS,
  type Tenant,
} from "@/standins/mail/tenants";
import { Chance } from "./chance";
import type { WorldMail } from "./world";

/** The mail of the demo's clients: a few messages a day in each mailbox, some with a sheet attached. */
const SUBJECTS = [
  "Order for Saturday",
  "Keys for the side door",
  "Minutes of Tuesday",
  "Boiler inspection",
  "Re: The quay gate",
  "New tenant at number nine",
  "Rota for next week",
  "Invoice from the chandler",
  "Thank you for the quick help",
  "Photographs from the open day",
] as const;
const OPENINGS = ["Good morning", "Hello", "Dear all", "Just a short word"] as const;
const SENTENCES = [
  "the delivery comes at seven, please leave the gate open.",
  "could you send me the list again, I cannot find it any more.",
  "we agreed on Thursday at the office, half past two.",
  "the second key is with the harbour master.",
  "I have put the numbers into the sheet below.",
  "nothing urgent, but please look at it before the weekend.",
] as const;

const APPOINTMENTS = [
  ["Boiler inspection, Tern House", "Tern House, cellar"],
  ["Board meeting", "Room 2"],
  ["Handover of keys, flat 14", "Sorrel Row 14"],
  ["Call about the roof quotation", ""],
  ["Fire drill", "Courtyard"],
  ["Interview: caretaker", "Room 1"],
  ["Rent review", "Room 2"],
  ["Flour delivery", "Yard"],
] as const;
const PEOPLE = [
  ["Maren", "Quill", "Quillmere Boats"],
  ["Piers", "Ostrel", "Ostrel Roofing"],
  ["Ailsa", "Thorn", "Thornquay Chandlers"],
  ["Rewi", "Tarn", "Tarn Heating"],
  ["Corin", "Ashby", "Pendlewick Housing Trust"],
  ["Odile", "Fenn", "Fenn & Daughter, Locksmiths"],
] as const;

const lines = (all: readonly string[]): string => `${all.join("\r\n")}\r\n`;
const digits = (at: Date): string => `${at.toISOString().slice(0, 19).replaceAll(/[-:]/g, "")}Z`;
function appointment(uid: string, title: string, place: string, day: Date, chance: Chance): string {
  const start = new Date(
    Date.UTC(day.getUTCFullYear(), day.getUTCMonth(), day.getUTCDate(), 8 + chance.below(8)),
  );
  return lines([
    "BEGIN:VCALENDAR",
    "VERSION:2.0",
    "PRODID:-//Lanternfold//Harbour calendar//EN",
    "BEGIN:VEVENT",
    `UID:${uid}`,
    `DTSTAMP:${digits(day)}`,
    `DTSTART:${digits(start)}`,
    "DURATION:PT1H",
    `SUMMARY:${title.replaceAll(",", "\\,")}`,
    ...(place ? [`LOCATION:${place.replaceAll(",", "\\,")}`] : []),
    ...(chance.below(4) === 0 ? ["RRULE:FREQ=WEEKLY;COUNT=6"] : []),
    "BEGIN:VALARM",
    "ACTION:DISPLAY",
    `DESCRIPTION:${title.replaceAll(",", "\\,")}`,
    "TRIGGER:-PT15M",
    "END:VALARM",
    "END:VEVENT",
    "END:VCALENDAR",
  ]);
}
const contactCard = (first: string, last: string, house: string, chance: Chance): string =>
  lines([
    "BEGIN:VCARD",
    "VERSION:3.0",
    `UID:${first}-${last}`.toLowerCase(),
    `N:${last};${first};;;`,
    `FN:${first} ${last}`,
    `ORG:${house.replaceAll(",", "\\,")}`,
    `EMAIL;TYPE=WORK:${first}@${house.split(" ")[0]}.example`
      .toLowerCase()
      .replace("email;type=work", "EMAIL;TYPE=WORK"),
    `TEL;TYPE=CELL:+00 555 01${String(chance.below(100)).padStart(2, "0")}`,
    "END:VCARD",
  ]);

/** The same text as a mail program sends it. */
const letterOf = (text: string): string =>
  `<html><body>${text
    .trim()
    .split("\n\n")
    .map((part) => `<p>${part}</p>`)
    .join("")}<p style="color:#5b6573"><i>Sent from the harbour office</i></p></body></html>`;

export class MailLife {
  readonly world: MailTenants;
  private readonly lives: { tenant: Tenant; domain: string; chance: Chance }[] = [];
  private number = 0;

  constructor(folder: string) {
    mkdirSync(folder, { recursive: true, mode: 0o700 });
    this.world = new MailTenants(folder);
  }

  begin(mail: WorldMail, secret: string, expiresAt: Date): Tenant {
    const mailboxes: Mailbox[] = mail.mailboxes.map((name) => ({
      id: `m-${name}`,
      address: `${name}@${mail.domain}`,
      folders: [...STANDARD_FOLDERS, { id: "suppliers", name: "Suppliers", parentId: "inbox", role: null }],
      messages: [],
    }));
    const tenant: Tenant = {
      tenantId: mail.tenantId,
      applications: [{ clientId: mail.clientId, secret, expiresAt: expiresAt.toISOString() }],
      mailboxes,
    };
    this.world.add(tenant);
    this.lives.push({ tenant, domain: mail.domain, chance: new Chance(mail.domain.length * 7919) });
    return tenant;
  }

  /** Where calendars and contacts of the tenants are, on the server at `address`. */
  static readonly dav = (address: string): string => `${address}/dav/principals/{mailbox}/`;

  /** Calendars and contacts, as they are when the month begins. */
  private settle(tenant: Tenant, mailbox: Mailbox, domain: string, chance: Chance, at: Date): void {
    mailbox.collections = [
      { id: "calendar", kind: "calendar", name: "Calendar", items: [] },
      { id: "contacts", kind: "addressbook", name: "Contacts", items: [] },
    ];
    const [calendar, contacts] = mailbox.collections as [Collection, Collection];
    for (const [i, [title, place]] of APPOINTMENTS.entries()) {
      if (chance.below(3) === 0) continue;
      const day = new Date(at.getTime() + (3 + chance.below(50)) * 86_400_000);
      const uid = `${mailbox.id}-${i}@${domain}`;
      this.world.putItem(
        tenant,
        mailbox,
        calendar,
        `${uid}.ics`,
        appointment(uid, title, place, day, chance),
        at,
      );
    }
    for (const [first, last, house] of PEOPLE)
      if (chance.below(4) > 0)
        this.world.putItem(
          tenant,
          mailbox,
          contacts,
          `${first}-${last}.vcf`.toLowerCase(),
          contactCard(first, last, house, chance),
          at,
        );
  }

  /** An appointment is moved, or a new one is made. */
  private rearrange(tenant: Tenant, mailbox: Mailbox, domain: string, chance: Chance, at: Date): void {
    const calendar = mailbox.collections?.find((one) => one.kind === "calendar");
    if (!calendar || chance.below(4) > 0) return;
    const number = chance.below(APPOINTMENTS.length);
    const [title, place] = APPOINTMENTS[number]!;
    const uid = `${mailbox.id}-${number}@${domain}`;
    const day = new Date(at.getTime() + (1 + chance.below(30)) * 86_400_000);
    this.world.putItem(
      tenant,
      mailbox,
      calendar,
      `${uid}.ics`,
      appointment(uid, title, place, day, chance),
      at,
    );
  }

  /** Somebody removes everything from a mailbox. */
  empty(address: string): void {
    for (const { tenant } of this.lives) {
      const mailbox = tenant.mailboxes.find((one) => one.address === address);
      if (!mailbox) continue;
      mailbox.messages = [];
      this.world.save(tenant);
    }
  }

  /** A day of mail in every mailbox, up to `noon`. */
  async day(noon: Date): Promise<void> {
    for (const { tenant, domain, chance } of this.lives) {
      for (const mailbox of tenant.mailboxes) {
        for (let left = 1 + chance.below(3); left > 0; left -= 1)
          await this.arrive(tenant, mailbox, domain, chance, new Date(noon.getTime() - chance.below(36e6)));
        if (mailbox.collections) this.rearrange(tenant, mailbox, domain, chance, noon);
        else this.settle(tenant, mailbox, domain, chance, noon);
      }
      this.world.save(tenant);
    }
  }

  private async arrive(tenant: Tenant, mailbox: Mailbox, domain: string, chance: Chance, at: Date) {
    this.number += 1;
    const id = `e${this.number.toString(36)}`;
    const subject = chance.of(SUBJECTS);
    const sent = chance.below(4) === 0;
    const other = `${chance.of(["maren", "piers", "ailsa", "rewi", "corin"])}@${chance.of(["quillmere", "ostrel", "thornquay"])}.example`;
    const text = `${chance.of(OPENINGS)},\n\n${Array.from({ length: 2 + chance.below(4) }, () => chance.of(SENTENCES)).join(" ")}\n`;
    const message = new MailComposer({
      from: sent ? mailbox.address : other,
      to: sent ? other : mailbox.address,
      date: at,
      messageId: `<${id}@${domain}>`,
      subject,
      text,
      ...(chance.below(2) === 0 ? { html: letterOf(text) } : {}),
      ...(chance.below(4) === 0
        ? {
            attachments: [
              {
                filename: "sheet.csv",
                content: Array.from(
                  { length: 60 },
                  (_, row) => `${row};${chance.below(900)};${chance.below(900)}`,
                ).join("\n"),
              },
            ],
          }
        : {}),
    });
    const bytes = await message.compile().build();
    const folder = sent ? "sent" : chance.below(5) === 0 ? "suppliers" : "inbox";
    this.world.deliver(
      tenant,
      mailbox,
      {
        id,
        mailboxIds: { [folder]: true },
        keywords: chance.below(3) ? { $seen: true } : {},
        receivedAt: at.toISOString(),
        subject,
      },
      bytes,
    );
  }
}
