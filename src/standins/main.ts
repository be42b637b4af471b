import { existsSync, readdirSync } from "node:fs";
import { join } from "node:path";
import { Estate } from "./host/estate";
import { HostServer } from "./host/server";
import { MailDrop } from "./inbox/mail-drop";
import { Receiver } from "./inbox/receiver";
import { LibraryServer } from "./library/server";
import { MailServer } from "./mail/server";
import { MailTenants } from "./mail/tenants";
import { S3Server } from "./s3/server";

/**
 * The simulated outside world as programs: `standins mail PORT FOLDER`, `standins bucket PORT FOLDER` (its secret in
 * KEEP_BUCKET_SECRET), `standins inbox PORT FOLDER` (SMTP), `standins hosts PORT FOLDER` (hypervisor hosts; a folder below for each management), `standins library PORT FOLDER` (files by
 * WebDAV, with a sign-in page), `standins receiver PORT FOLDER` (webhooks and a page of what
 * came; the signing secret in KEEP_WEBHOOK_SECRET).
 */
const [kind, port, folder] = process.argv.slice(2);
if (!folder) throw new Error("usage: standins mail|bucket|inbox|receiver|hosts|library PORT FOLDER");
switch (kind) {
  case "mail":
    console.log(`Mail at ${await new MailServer(new MailTenants(folder)).listen(Number(port))}`);
    break;
  case "bucket": {
    const keys = { "deep-keep": { secret: process.env.KEEP_BUCKET_SECRET ?? "" } };
    console.log(`Bucket at ${await new S3Server({ folder, keys }).listen(Number(port))}`);
    break;
  }
  case "hosts": {
    const names = existsSync(folder) ? readdirSync(folder) : [];
    const estates = new Map(names.map((name) => [name, new Estate(join(folder, name))]));
    console.log(`Hosts at ${await new HostServer(estates).listen(Number(port))}`);
    break;
  }
  case "library":
    console.log(`Library at ${await new LibraryServer({ folder }).listen(Number(port))}`);
    break;
  case "inbox":
    console.log(`Inbox at port ${await new MailDrop(join(folder, "mail")).listen(Number(port))}`);
    break;
  case "receiver": {
    const secret = () => process.env.KEEP_WEBHOOK_SECRET ?? null;
    const receiver = new Receiver(join(folder, "hooks"), secret, join(folder, "mail"));
    console.log(`What was sent is shown at ${await receiver.listen(Number(port))}`);
    break;
  }
  default:
    throw new Error(`there is no stand-in ${kind}`);
}
