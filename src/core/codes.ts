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
    "A file vanished while it was read",
    "It was listed and then removed before it was opened.",
    "Nothing, if it is a working file. Leave such folders out in the policy to quieten it.",
    true,
  ),
  "file.changed-while-read": text(
    "A file changed while it was read",
    "Something wrote to it during the run; the stored state may mix two moments.",
    "Choose a time when the program that writes it rests; the next run reads it anew.",
    true,
  ),
  "file.unreadable": text(
    "A file could not be read",
    "The system reported an error while reading it.",
    "Look at the system's own log for errors of the disk, then run again.",
    true,
  ),
  "file.special": text(
    "A socket, pipe or device was passed over",
    "It has no content that could be kept.",
    "Nothing. It is made anew by the program that uses it.",
  ),
  "folder.missing": text(
    "A chosen folder is not there",
    "The policy names it and the machine does not have it, or a volume is not mounted.",
    "Mount the volume, or change the clause What.",
  ),
  "selection.empty": text(
    "Nothing was chosen",
    "The clause What leaves no file on this machine.",
    "Open the policy, widen its folders or its patterns, and run again.",
  ),
  "address.forbidden": text(
    "That address may not be reached from here",
    "Whoever runs this console forbids it: services that a data centre offers to its own machines lie there, or something else that is nobody's business.",
    "Name another address. Whoever runs the console can allow it: DEEPKEEP_FORBIDDEN, in docs/operations.md.",
  ),
  "source.not-reached": text(
    "The source could not be reached",
    "Its name, its port or its server does not answer.",
    "Test the connection in the view Sources; it shows the step that fails.",
    true,
  ),
  "source.signin-refused": text(
    "Sign-in at the source was refused",
    "The credentials are wrong, were withdrawn, or their time is over.",
    "Create a new client secret in the tenant's admin console, then enter it on this connection.",
  ),
  "source.not-allowed": text(
    "The source does not let us read",
    "The credentials are right, but a permission is missing.",
    "Give the application the right to read mail, and agree to it for the tenant.",
  ),
  "source.other-host": text(
    "The server names another host",
    "Its metadata leads to a host or issuer other than the address of this connection. Our secret is not sent there.",
    "If the host belongs to the tenant, confirm it on the connection; otherwise check the address.",
  ),
  "source.unreadable": text(
    "The source gave an answer that cannot be read",
    "It does not keep to the protocol, or another program answers at this address.",
    "Check the address; test the connection.",
    true,
  ),
  "content.mass-change": text(
    "Many files changed and became unreadable",
    "Far more files than usual changed in one run, and most of the changed content no longer compresses: encrypted files look like this.",
    "Disconnect the machine from the network if nobody can explain the change. Restore from the last recovery point before it; then dismiss the alarm.",
  ),
  "change-tracking.reset": text(
    "Everything was read again",
    "What the agent remembers of the last recovery point is not there or does not fit it.",
    "Nothing. The recovery point is complete, and the next run is quick again.",
  ),
  "depot.full": text(
    "The depot is full",
    "The disk of the depot has no room left.",
    "Free space or enlarge the disk, then run again; what is already stored is not sent twice.",
    true,
  ),
  "depot.quota": text(
    "The client's quota is used up",
    "Storing more would pass the space granted to the client in this depot.",
    "Raise the quota, keep points for a shorter time, or choose another depot.",
    true,
  ),
  "depot.not-reached": text(
    "The depot could not be reached",
    "Its folder is missing, its server does not answer, or the system refused access.",
    "Test the depot in the view Depots; it shows the step that fails.",
    true,
  ),
  "depot.no-bucket": text(
    "The bucket does not exist",
    "The server answers, but has no bucket of this name for this key.",
    "Check the bucket's name and whether it stands in the path or in the host's name; create the bucket if it is missing.",
  ),
  "depot.lock-refused": text(
    "The bucket does not lock objects",
    "Object lock is off for the bucket, the server does not support it, or the key may not use it. Objects could be removed before their day.",
    "Turn on object lock for the bucket (often possible only when it is created) and give the key the right to set retention, or let a second person agree to a lock of 0 days.",
  ),
  "depot.signin-refused": text(
    "The depot refuses the credentials",
    "The access key is not known there, or its secret is wrong.",
    "Give the depot a key that is good, and test it.",
  ),
  "depot.not-allowed": text(
    "The depot does not allow it",
    "The credentials are right, but they may not do this: read, write, list or remove.",
    "Give the key all four rights in the bucket; a lock also answers so until its day.",
  ),
  "depot.other-region": text(
    "The bucket is in another region",
    "The region given is not the one where the bucket lies.",
    "Correct the region of the depot.",
  ),
  "depot.clock-wrong": text(
    "The clocks differ too much",
    "The depot's server takes only requests of its own time, give or take minutes.",
    "Set the clock of the console's machine.",
    true,
  ),
  "depot.not-empty": text(
    "Something lies there already",
    "A new depot wants a folder, or a prefix of a bucket, of its own.",
    "Choose an empty folder or another prefix. A depot that lies there is taken on by adopting it: docs/operations.md.",
  ),
  "depot.not-a-depot": text(
    "This depot is not there",
    "It holds no depot description of ours, or one of another depot.",
    "Mount the right disk, or choose the right folder.",
  ),
  "depot.newer": text(
    "The depot was written by a newer version",
    "Its format version is above the one this program reads.",
    "Update Deep Keep on this machine.",
  ),
  "store.damaged": text(
    "Stored data is damaged",
    "Bytes in the depot are altered, cut or missing.",
    "Choose another recovery point, and check the depot's disk.",
  ),
  "store.wrong-key": text(
    "The key does not fit",
    "The data was sealed with another key.",
    "Compare with the client's key sheet; each group has its own check character.",
  ),
  "key.not-confirmed": text(
    "The client's key is not confirmed",
    "Nobody has typed a group from the key sheet yet, so a run would seal with a key that may be lost.",
    "Open the client's policy, clause Encryption, and confirm the key.",
  ),
  "key.passphrase-needed": text(
    "The client's passphrase is needed",
    "This client's key is not in escrow: it opens with a passphrase that the provider does not hold.",
    "Give the passphrase; it is kept in memory for your session alone. A machine that was added later wants it once.",
  ),
  "key.wrong-passphrase": text(
    "The passphrase does not open the key",
    "It is not the one that the key was wrapped with, or it has a slip in it.",
    "Type it again. If it is lost, the key sheet still opens the depot.",
  ),
  "key.destroyed": text(
    "The client's key was destroyed",
    "Two people agreed to it; what was sealed with it cannot be read any more.",
    "Nothing can be done here. A key sheet on paper, if one was kept, still opens the depot.",
  ),
  "machine.silent": text(
    "The machine did not answer",
    "It is switched off, away, or its agent is not running.",
    "Switch it on, or start the agent; the run starts when it is back.",
    true,
  ),
  "machine.lost-run": text(
    "The run was broken off and taken up again",
    "The agent or the machine stopped in the middle of it.",
    "Nothing. What was stored by then is used.",
    true,
  ),
  "run.given-up": text(
    "The run was given up after three attempts",
    "Each time the agent stopped in the middle of it.",
    "Look at the machine: memory, disk, and the agent's own log.",
    true,
  ),
  "run.stopped": text("The run was stopped", "A person stopped it.", "Start it again when it suits.", true),
  "run.window-over": text(
    "The run's time was over",
    "Its window closed, or it had run for as long as its policy lets it.",
    "Nothing, if the next one gets through. Otherwise widen the window or the hours in When.",
    true,
  ),
  "snapshot.not-possible": text(
    "A volume could not stand still",
    "Conduct wants a snapshot before anything is read, and this volume makes none that the agent can use. Of Linux's file systems btrfs makes them, for an agent that runs as root.",
    "Leave the folder out, move it to a volume that makes snapshots, or let Conduct read such volumes as they are.",
  ),
  "command.failed": text(
    "A command before or after the run failed",
    "It ended with an error, did not end in time, or its machine runs no commands. Its output stands in the log.",
    "Try the command on the machine as the agent's account; correct it in the clause Conduct.",
  ),
  "notice.not-sent": text(
    "A message could not be sent",
    "The mail server or the webhook refused it, or did not answer; it was tried eight times.",
    "Look at the settings of mail and webhooks, test them, and send it again.",
    true,
  ),
  "console.not-reached": text(
    "The console was not reached",
    "The console's address is wrong or has changed, a firewall refuses the connection, or the console is down.",
    "Open the address in a browser on the same machine. If the console has a new address, run there: agent move --console URL.",
    true,
  ),
  "run.agent-error": text(
    "The agent met an error it does not know",
    "The message in the log says more.",
    "Run again; if it comes back, read the log of the agent on the machine.",
    true,
  ),
  "restore.link-in-path": text(
    "A link stands in the way",
    "A folder of the destination is a symbolic link, and a restore never leaves its destination through one.",
    "Choose another folder, or replace the link by a real folder.",
  ),
  "restore.cannot-write": text(
    "A file could not be written back",
    "The system refused to create or change it.",
    "Check free space and rights in the destination, or choose another folder.",
    true,
  ),
  "drill.differs": text(
    "A drill did not give back what was kept",
    "What was restored on purpose is not what was read at the source; the log names each item and how it differs.",
    "Check the depot with every byte read, and look at the runner’s own disk. The next run of the source stores anew what is damaged.",
  ),
  "restore.no-room": text(
    "There is not enough room at the destination",
    "What is to be restored is larger than what is free on that volume.",
    "Make room there, choose a folder on another volume, or restore less at once.",
  ),
  "restore.owner-not-set": text(
    "Owners could not be set",
    "The agent does not run as root, so restored files belong to its account.",
    "Run the agent as root, or set owners by hand.",
  ),
  "restore.metadata": text(
    "Some metadata could not be set",
    "The file system at the destination does not take it.",
    "Restore to a file system of the same kind if it matters.",
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
  "auth.needed": text("Sign-in is needed", "There is no valid session or token.", "Sign in."),
  "auth.refused": text("Sign-in was refused", "The address or the password is wrong.", "Try again.", true),
  "auth.factor-needed": text(
    "A code of the second factor is needed",
    "The password is right; this account has a second factor.",
    "Type the six digits that your authenticator shows, or a recovery code.",
  ),
  "auth.factor-missing": text(
    "A second factor must be set up first",
    "Your role has to have one.",
    "Set it up under “Your account”; everything else opens then.",
  ),
  "auth.not-allowed": text("This is not allowed", "Your role does not cover it.", "Ask the owner."),
  "not-found": text("It is not there", "It does not exist, or not for you.", "Go back and choose again."),
  "internal.error": text(
    "Something went wrong on our side",
    "The server met an error it does not know.",
    "Try again; the server's log has the details.",
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
