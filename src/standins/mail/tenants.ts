import { createHash } from "node:crypto";
import { existsSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";

/** Mail tenants of the simulated outside world. On the disk: a folder a tenant, `tenant.json` and the messages beside it. */
export interface Application {
  readonly clientId: string;
  secret: string;
  /** ISO 8601; from then on the secret is refused. */
  expiresAt: string;
}

export interface Folder {
  readonly id: string;
  readonly name: string;
  readonly parentId: string | null;
  readonly role: string | null;
}

export interface Message {
  readonly id: string;
  mailboxIds: Record<string, boolean>;
  keywords: Record<string, boolean>;
  readonly receivedAt: string;
  readonly subject: string;
  readonly size: number;
}

/** A calendar or an address book. */
export interface Collection {
  readonly id: string;
  readonly kind: "calendar" | "addressbook";
  readonly name: string;
  items: { readonly file: string; readonly etag: string /** ISO 8601. */; readonly changedAt: string }[];
}

export interface Mailbox {
  readonly id: string;
  readonly address: string;
  folders: readonly Folder[];
  messages: Message[];
  collections?: Collection[];
  /** Bytes that it may hold; without it as many as there are. */
  quota?: number;
  readOnly?: boolean;
}

export interface Tenant {
  readonly tenantId: string;
  readonly applications: Application[];
  readonly mailboxes: Mailbox[];
}

/** The folders that every mailbox has. */
export const STANDARD_FOLDERS: readonly Folder[] = (
  [
    ["inbox", "Inbox"],
    ["sent", "Sent"],
    ["drafts", "Drafts"],
    ["junk", "Junk"],
  ] as const
).map(([role, name]) => ({ id: role, name, parentId: null, role }));

const sha = (text: string): string => createHash("sha256").update(text).digest("hex").slice(0, 24);

/** Tenants with their messages in a folder. */
export class MailTenants {
  readonly tenants = new Map<string, Tenant>();

  constructor(readonly folder: string) {
    if (!existsSync(folder)) return;
    for (const name of readdirSync(folder)) {
      const tenant = JSON.parse(readFileSync(join(folder, name, "tenant.json"), "utf8")) as Tenant;
      this.tenants.set(tenant.tenantId, tenant);
    }
  }

  private messageFile = (tenant: Tenant, mailbox: Mailbox, id: string): string =>
    join(this.folder, tenant.tenantId, mailbox.id, `${id}.eml`);

  add(tenant: Tenant): void {
    this.tenants.set(tenant.tenantId, tenant);
    for (const mailbox of tenant.mailboxes)
      mkdirSync(join(this.folder, tenant.tenantId, mailbox.id), { recursive: true });
    this.save(tenant);
  }

  save(tenant: Tenant): void {
    writeFileSync(join(this.folder, tenant.tenantId, "tenant.json"), JSON.stringify(tenant));
  }

  /** Lets a message arrive. Its tenant is saved by `save`. */
  deliver(tenant: Tenant, mailbox: Mailbox, message: Omit<Message, "size">, bytes: Buffer): void {
    writeFileSync(this.messageFile(tenant, mailbox, message.id), bytes);
    mailbox.messages.push({ ...message, size: bytes.length });
  }

  private itemFile = (tenant: Tenant, mailbox: Mailbox, collection: Collection, file: string): string =>
    join(this.folder, tenant.tenantId, mailbox.id, `${collection.id}-${sha(file)}`);

  /** Stores a calendar entry or contact. Its tenant is saved by `save`. */
  putItem(tenant: Tenant, mailbox: Mailbox, collection: Collection, file: string, text: string, at: Date) {
    writeFileSync(this.itemFile(tenant, mailbox, collection, file), text);
    const item = { file, etag: `"${sha(text)}"`, changedAt: at.toISOString() };
    collection.items = [...collection.items.filter((one) => one.file !== file), item];
    return item;
  }

  readItem(tenant: Tenant, mailbox: Mailbox, collection: Collection, file: string): string {
    return readFileSync(this.itemFile(tenant, mailbox, collection, file), "utf8");
  }

  /** Bytes that a client uploaded, until it makes a message of them. Returns their id. */
  upload(bytes: Buffer): string {
    this.uploads.set(`u${this.uploads.size + 1}`, bytes);
    return `u${this.uploads.size}`;
  }
  private readonly uploads = new Map<string, Buffer>();

  /** Makes a message of what was uploaded. Null where there is nothing of this id. */
  uploaded(blobId: string): Buffer | null {
    return this.uploads.get(blobId) ?? null;
  }

  read(tenant: Tenant, mailbox: Mailbox, id: string): Buffer | null {
    if (!mailbox.messages.some((message) => message.id === id)) return null;
    return readFileSync(this.messageFile(tenant, mailbox, id));
  }
}
