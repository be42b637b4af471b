import { MailServer } from "./mail/server";
import { MailTenants } from "./mail/tenants";

/** The simulated outside world as a program: `standins mail PORT FOLDER`. */
const [kind, port, folder] = process.argv.slice(2);
if (kind !== "mail" || !folder) throw new Error("usage: standins mail PORT FOLDER");
console.log(`Mail at ${await new MailServer(new MailTenants(folder)).listen(Number(port))}`);
