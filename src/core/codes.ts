/**
 * The closed list of codes a person can meet: in a run's log, as its outcome, as a problem of the API.
 * The page of the docs and the words beside each error in the interface are made from this one table.
 */

/** What a code means to a person. `retry`: whether doing the same again can help without a change. */
export interface CodeText {
  readonly title: string;
  readonly cause: string;
  readonly remedy: string;
  readonly retry: boolean;
}

const text = (title: string, cause: string, remedy: string, retry = false): CodeText => ({
  title,
  cause,
  remedy,
  retry,
});

export const CODES = {
  "file.no-permission": text(
    "A file could not be opened",
    "The agent's account may not read it.",
    "Run the agent as root, give its account the right to read, or leave the path out in the policy.",
  ),
  "file.vanished": text(
    "A file was removed while it was read",
    "It was deleted between being listed and being opened.",
    "No action is needed for temporary files. Exclude such folders in the policy to avoid the message.",
    true,
  ),
  "file.changed-while-read": text(
    "A file changed while it was read",
    "A program wrote to it during the run. The stored content may combine two states.",
    "Schedule the run for a time when the program is idle, or use a volume snapshot. The next run reads the file again.",
    true,
  ),
  "file.unreadable": text(
    "A file could not be read",
    "The operating system reported a read error.",
    "Check the system log for disk errors, then run again.",
    true,
  ),
  "file.special": text(
    "A socket, pipe or device was skipped",
    "It has no content to back up.",
    "No action is needed. The program that uses it creates it again.",
  ),
  "folder.missing": text(
    "A selected folder does not exist",
    "The policy names it, but the machine does not have it, or a volume is not mounted.",
    "Mount the volume, or change the clause What.",
  ),
  "selection.empty": text(
    "The selection is empty",
    "The clause What matches no file on this machine.",
    "Open the policy, extend its folders or patterns, and run again.",
  ),
  "address.forbidden": text(
    "Address not allowed",
    "The operator of this console blocks this address, for example because a metadata service uses it.",
    "Use another address, or ask the operator to allow it: DEEPKEEP_FORBIDDEN, in docs/operations.md.",
  ),
  "source.not-reached": text(
    "The source could not be reached",
    "Its name does not resolve, or its port or server does not respond.",
    "Test the connection in the view Sources; it shows the step that fails.",
    true,
  ),
  "source.signin-refused": text(
    "Sign-in at the source was refused",
    "The credentials are wrong, revoked or expired.",
    "Create a new secret or password at the source, then enter it on this connection.",
  ),
  "source.grant-ended": text(
    "The grant has ended",
    "The server no longer accepts the access that a person granted: it was revoked, expired, or that person has left.",
    "Authorise the connection again: open it in Sources and choose Authorise again.",
  ),
  "source.not-allowed": text(
    "Access to the source was denied",
    "The credentials are valid, but a permission is missing.",
    "Grant the application or user the permission that the message names.",
  ),
  "source.tls": text(
    "The encrypted connection to the source failed",
    "Its certificate is not from a known authority, has expired or names another host, or the server does not offer TLS.",
    "Enter the certificate of its authority on the connection, or have the server's certificate renewed.",
  ),
  "source.program-missing": text(
    "A program for reading the source is missing",
    "A dump program does not read servers that are newer than itself.",
    "Install the package that the message names on the console's machine, then test the connection.",
  ),
  "source.dump-failed": text(
    "The dump failed",
    "The dump program ended with an error, or the connection to the server was lost. The log has its own message.",
    "Correct what the message names, then run the backup again. The recovery points so far are unchanged.",
    true,
  ),
  "source.snapshot-failed": text(
    "The snapshot failed",
    "The hypervisor host refused the snapshot of the guest, or stopped serving it. The log has its own message.",
    "Correct what the message names, then run the backup again. The recovery points so far are unchanged.",
    true,
  ),
  "source.other-host": text(
    "The server names another host",
    "Its metadata leads to a host or issuer other than the address of this connection. Our secret is not sent there.",
    "If the host belongs to the tenant, confirm it on the connection; otherwise check the address.",
  ),
  "source.unreadable": text(
    "The source sent an invalid response",
    "It does not follow the protocol, or another program answers at this address.",
    "Check the address and test the connection.",
    true,
  ),
  "content.mass-change": text(
    "Many files changed and became unreadable",
    "Far more files than usual changed in one run, and most of the changed content no longer compresses: encrypted files look like this.",
    "Disconnect the machine from the network if nobody can explain the change. Restore from the last recovery point before it; then dismiss the alarm.",
  ),
  "change-tracking.reset": text(
    "All data was read again",
    "The record of what changed since the last recovery point is missing or does not match. The message gives the reason.",
    "No action is needed. The recovery point is complete, and the next run is incremental again.",
  ),
  "depot.full": text(
    "The depot is full",
    "The depot's disk has no free space.",
    "Free space or enlarge the disk, then run again. Data that is already stored is not sent again.",
    true,
  ),
  "depot.quota": text(
    "The client's quota is exceeded",
    "Storing more data would exceed the space granted to the client in this depot.",
    "Raise the quota, shorten the retention, or choose another depot.",
    true,
  ),
  "depot.not-reached": text(
    "The depot could not be reached",
    "Its folder is missing, its server does not respond, or the system denied access.",
    "Test the depot in the view Depots. The test shows the step that fails.",
    true,
  ),
  "depot.no-bucket": text(
    "The bucket does not exist",
    "The server responds, but has no bucket of this name for this key.",
    "Check the bucket name and the address style, or create the bucket.",
  ),
  "depot.lock-refused": text(
    "The bucket does not lock objects",
    "Object lock is off for the bucket, the server does not support it, or the key may not use it. Objects could be removed before their day.",
    "Turn on object lock for the bucket (often possible only when it is created) and give the key the right to set retention, or let a second person agree to a lock of 0 days.",
  ),
  "depot.signin-refused": text(
    "The depot rejected the credentials",
    "The access key is unknown, or its secret is wrong.",
    "Enter a valid key and test the depot.",
  ),
  "depot.not-allowed": text(
    "Access to the depot was denied",
    "The credentials are valid, but lack a permission (read, write, list or delete), or the object is still locked.",
    "Grant the key all four permissions in the bucket.",
  ),
  "depot.other-region": text(
    "The bucket is in another region",
    "The region entered is not the bucket's region.",
    "Correct the region of the depot.",
  ),
  "depot.clock-wrong": text(
    "The clock difference is too large",
    "The depot's server accepts only requests whose time is within a few minutes of its own.",
    "Correct the clock of the console's machine.",
    true,
  ),
  "depot.not-empty": text(
    "The location is not empty",
    "A new depot needs an empty folder or bucket prefix.",
    "Choose an empty folder or another prefix. To take over an existing depot, adopt it: docs/operations.md.",
  ),
  "depot.not-a-depot": text(
    "The depot was not found at this location",
    "The location has no depot description, or the description of another depot.",
    "Mount the correct disk, or choose the correct folder.",
  ),
  "depot.newer": text(
    "The depot was written by a newer version",
    "Its format version is newer than this program supports.",
    "Update Deep Keep on this machine.",
  ),
  "store.damaged": text(
    "Stored data is damaged",
    "Data in the depot was changed, truncated or deleted.",
    "Restore from another recovery point, and check the depot's disk.",
  ),
  "store.wrong-key": text(
    "The key does not match",
    "The data was encrypted with another key.",
    "Compare the key with the client's key sheet. Each group has a check character.",
  ),
  "key.not-confirmed": text(
    "The client's key is not confirmed",
    "Nobody has entered a group from the key sheet yet. A run would encrypt with a key that may be lost.",
    "Open the client's policy, clause Encryption, and confirm the key.",
  ),
  "key.passphrase-needed": text(
    "The client's passphrase is required",
    "This client's key is not in escrow. Only its passphrase opens it, and the provider does not have it.",
    "Enter the passphrase. It applies to your session only. A machine that was added later needs it once.",
  ),
  "key.wrong-passphrase": text(
    "The passphrase does not open the key",
    "The passphrase was mistyped, or it is not the current one.",
    "Enter it again. If it is lost, the key sheet still opens the depot.",
  ),
  "key.destroyed": text(
    "The client's key was destroyed",
    "Two people approved it. Data encrypted with this key can no longer be read.",
    "No action is possible here. A printed key sheet, if one was kept, still opens the depot.",
  ),
  "machine.silent": text(
    "The machine did not respond",
    "It is turned off, offline, or its agent is not running.",
    "Turn it on or start the agent. The run starts when the machine is back.",
    true,
  ),
  "machine.lost-run": text(
    "The run was interrupted and resumed",
    "The agent or the machine stopped during the run.",
    "No action is needed. Data stored before the interruption is used.",
    true,
  ),
  "run.given-up": text(
    "The run was abandoned after three attempts",
    "The agent stopped during each attempt.",
    "Check memory, disk and the agent's log on the machine.",
    true,
  ),
  "run.stopped": text("The run was stopped", "A person stopped it.", "Start it again at any time.", true),
  "run.window-over": text(
    "The run exceeded its time",
    "Its window closed, or it reached the maximum duration of its policy.",
    "No action is needed if the next run completes. Otherwise extend the window or the duration in When.",
    true,
  ),
  "snapshot.not-possible": text(
    "No snapshot could be taken of a volume",
    "Conduct requires a snapshot before reading, and this volume has none that the agent can use. On Linux, btrfs volumes have them, with an agent that runs as root.",
    "Exclude the folder, move it to a volume with snapshots, or allow Conduct to read such volumes directly.",
  ),
  "command.failed": text(
    "A command before or after the run failed",
    "It returned an error, timed out, or its machine does not run commands. The log has its output.",
    "Test the command on the machine with the agent's account, and correct it in the clause Conduct.",
  ),
  "notice.not-sent": text(
    "A message could not be sent",
    "The mail server or webhook rejected it or did not respond, in eight attempts.",
    "Check the settings of mail and webhooks, test them, and send the message again.",
    true,
  ),
  "console.not-reached": text(
    "The console could not be reached",
    "The console's address is wrong or has changed, a firewall refuses the connection, or the console is down.",
    "Open the address in a browser on the same machine. If the console has a new address, run there: agent move --console URL.",
    true,
  ),
  "run.agent-error": text(
    "The agent reported an unknown error",
    "The log has the message.",
    "Run again. If the error recurs, read the agent's log on the machine.",
    true,
  ),
  "restore.link-in-path": text(
    "The destination path contains a link",
    "A folder of the destination is a symbolic link. A restore does not follow links out of its destination.",
    "Choose another folder, or replace the link with a folder.",
  ),
  "restore.cannot-write": text(
    "A file could not be written",
    "The system refused to create or change it.",
    "Check the free space and permissions of the destination, or choose another folder.",
    true,
  ),
  "drill.differs": text(
    "A drill found differences",
    "The restored data differs from the data that was backed up. The log lists each item and how it differs.",
    "Check every byte of the depot, and check the runner’s own disk. The next run of the source stores damaged data again.",
  ),
  "restore.no-room": text(
    "Not enough space at the destination",
    "The restore is larger than the free space of the volume.",
    "Free space there, choose a folder on another volume, or restore less.",
  ),
  "restore.mailbox-full": text(
    "The mailbox is full",
    "The mail server takes no more messages because the mailbox has used up its quota.",
    "Raise the quota or free space in the mailbox, then restore again. Messages that were restored are not duplicated.",
  ),
  "restore.message-rejected": text(
    "The server rejected an item",
    "The server has a limit or a rule that the item does not meet. The log has its reason.",
    "Download the item instead, or change the rule on the server and restore again.",
  ),
  "restore.exists": text(
    "The target exists already",
    "A restore under a new name does not change what is there.",
    "Enter another name, or delete or rename what is there first.",
  ),
  "restore.in-use": text(
    "The target is in use",
    "A database that is replaced must have no sessions. Nothing was changed.",
    "End the sessions that the message names, or restore under another name.",
  ),
  "restore.statement-failed": text(
    "The server rejected a statement of the restore",
    "It lacks a role, an extension or a permission that the database uses. The rest was restored.",
    "Create what the message names on the server, then restore again under another name.",
  ),
  "restore.read-only": text(
    "The mailbox cannot be changed",
    "The connection may read this mailbox but not write to it.",
    "Give the application, user or token of the connection write access, or download the messages instead.",
  ),
  "restore.owner-not-set": text(
    "Owners could not be set",
    "The agent does not run as root, so restored files belong to its account.",
    "Run the agent as root, or set the owners by hand.",
  ),
  "restore.metadata": text(
    "Some metadata could not be set",
    "The file system at the destination does not support it.",
    "If it matters, restore to a file system of the same type.",
  ),
  "request.invalid": text(
    "The request is not valid",
    "A field is missing or wrong.",
    "Correct the fields named.",
  ),
  "request.conflict": text(
    "Conflicts with the current state",
    "The state changed or the name is taken.",
    "Reload and try again.",
  ),
  "request.too-many": text(
    "Rate limit reached",
    "Too many requests arrived in a short time.",
    "Wait, then try again.",
    true,
  ),
  "request.too-large": text(
    "The request body is too large",
    "The body exceeds the limit of this operation.",
    "Send less at a time.",
  ),
  "request.too-slow": text(
    "The request timed out",
    "The body arrived too slowly, or the answer took too long.",
    "Try again over a better connection, or ask for less.",
    true,
  ),
  "request.method": text(
    "Method not allowed",
    "This address exists, but not with this HTTP method.",
    "Use a method named in the Allow header.",
  ),
  "request.media-type": text(
    "Unsupported content type",
    "The body's content type is not application/json.",
    "Send the body as JSON with the header Content-Type: application/json.",
  ),
  "service.unavailable": text(
    "The service is temporarily unavailable",
    "The database does not answer.",
    "Try again in a few seconds. If it lasts, check the database server.",
    true,
  ),
  "auth.needed": text("Sign-in is required", "There is no valid session or token.", "Sign in."),
  "auth.refused": text("Sign-in failed", "The address or the password is wrong.", "Try again.", true),
  "auth.factor-needed": text(
    "A code of the second factor is required",
    "The password is correct. This account has a second factor.",
    "Enter the six-digit code of your authenticator, or a recovery code.",
  ),
  "auth.factor-missing": text(
    "Set up a second factor first",
    "Your role requires a second factor.",
    "Set it up under “Your account”. Then the rest of the console opens.",
  ),
  "auth.not-allowed": text(
    "Permission denied",
    "Your role does not include this action.",
    "Ask the owner of the console.",
  ),
  "not-found": text(
    "Not found",
    "It does not exist, or you do not have access to it.",
    "Go back and choose again.",
  ),
  "internal.error": text(
    "Internal error",
    "The server met an unexpected error.",
    "Try again. The server's log has the details.",
    true,
  ),
} as const satisfies Record<string, CodeText>;

export type Code = keyof typeof CODES;

/** True when the text is one of the closed list. */
export const isCode = (value: string): value is Code => Object.hasOwn(CODES, value);

/** An error that a person will see: one of the closed list, with what it is about. */
export class CodedError extends Error {
  readonly code: Code;
  constructor(code: Code, detail?: string, options?: ErrorOptions) {
    super(detail ? `${CODES[code].title}: ${detail}` : CODES[code].title, options);
    this.name = "CodedError";
    this.code = code;
  }
}
