/** What a mail server gives and takes, whichever protocol it speaks, in the data model of RFC 8621. */
export interface MailAccount {
  readonly id: string;
  /** The address of the mailbox. */
  readonly name: string;
}

export interface MailFolder {
  readonly id: string;
  readonly name: string;
  readonly parentId: string | null;
  /** What it is for (RFC 8621, section 2): `inbox`, `sent`, `trash` … */
  readonly role: string | null;
}

export interface MailItem {
  /** Does not change while the message is there. */
  readonly id: string;
  /** By what its content is asked for. */
  readonly blobId: string;
  /** The folders that it is in, by their ids. */
  readonly mailboxIds: Readonly<Record<string, boolean>>;
  readonly keywords: Readonly<Record<string, boolean>>;
  /** ISO 8601. */
  readonly receivedAt: string;
  readonly size: number;
  readonly subject: string | null;
}

/** A message that is in a folder already. */
export interface PresentMessage extends Pick<MailItem, "id" | "blobId" | "size" | "receivedAt"> {
  /** Without its angle brackets; null where it has none. */
  readonly messageId: string | null;
}

/** A message that is to be put into a folder. */
export interface NewMessage extends Pick<MailItem, "receivedAt"> {
  readonly bytes: Buffer<ArrayBuffer>;
  /** As RFC 8621, section 4.1.1 writes them: `$seen`, `$flagged` … */
  readonly keywords: readonly string[];
}

/** Errors are CodedErrors of the `source.`, `file.` and `restore.` codes. */
export interface MailClient {
  /** Finds the server. */
  find(): Promise<void>;
  signIn(): Promise<void>;
  accounts(): Promise<MailAccount[]>;
  folders(accountId: string): Promise<MailFolder[]>;
  /** Everything in a mailbox, without content. */
  items(accountId: string): Promise<MailItem[]>;
  /** A message as it was received (RFC 5322). */
  content(accountId: string, item: Pick<MailItem, "blobId" | "size">): Promise<Buffer>;
  present(accountId: string, folderId: string): Promise<PresentMessage[]>;
  /** A folder's name as this server can have it; absent where it can have any. */
  folderName?(accountId: string, name: string): Promise<string>;
  /** Returns the id of the folder. */
  addFolder(accountId: string, name: string, parentId: string | null): Promise<string>;
  /** Returns the id of the message, where the server tells it. */
  add(accountId: string, folderId: string, message: NewMessage): Promise<string | null>;
  /** Lets a message appear in one more folder; absent where a message is in one folder only. */
  putInto?(accountId: string, id: string, folderId: string): Promise<void>;
  /** Ends the connection, if it has one. */
  end?(): Promise<void>;
}
