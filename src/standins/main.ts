import { MailServer } from "./mail/server";
import { MailTenants } from "./mail/tenants";
import { S3Server } from "./s3/server";

/** The simulated outside world as programs: `standins mail PORT FOLDER`, `standins bucket PORT FOLDER` (its secret in KEEP_BUCKET_SECRET). */
const [kind, port, folder] = process.argv.slice(2);
if (!folder) throw new Error("usage: standins mail|bucket PORT FOLDER");
switch (kind) {
  case "mail":
    console.log(`Mail at ${await new MailServer(new MailTenants(folder)).listen(Number(port))}`);
    break;
  case "bucket": {
    const keys = { "deep-keep": { secret: process.env.KEEP_BUCKET_SECRET ?? "" } };
    console.log(`Bucket at ${await new S3Server({ folder, keys }).listen(Number(port))}`);
    break;
  }
  default:
    throw new Error(`there is no stand-in ${kind}`);
}
