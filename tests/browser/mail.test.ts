import { By, type WebDriver } from "selenium-webdriver";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { MailServer } from "@/standins/mail/server";
import { type Mailbox, MailTenants, STANDARD_FOLDERS, type Tenant } from "@/standins/mail/tenants";
import { seemlyToAll } from "../accessible";
import { choose, openBrowser, press, see, seeText, signInAs, type } from "../browser";
import { backUp, makeClient, type TestClient } from "../client";
import { freshFolder } from "../depot";
import { eventOf } from "../radicale";
import { TestConsole, until } from "../test-console";

/** Somebody empties a mailbox; a technician reads what was in it and restores it, and so does its owner in the portal. */
let console_: TestConsole;
let browser: WebDriver;
let client: TestClient;
let world: MailTenants;
let server: MailServer;
let tenant: Tenant;
const PASSWORD = "boiler keys by the side door";
const open = (path: string) => browser.get(console_.url + path);
const mailbox = (id: string): Mailbox => ({
  id,
  address: `${id}@pendlewick.example`,
  folders: STANDARD_FOLDERS,
  messages: [],
});
const box = (id: string) => tenant.mailboxes.find((one) => one.id === id)!;
const subjects = (id: string) =>
  box(id)
    .messages.map((one) => one.subject)
    .sort();

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Pendlewick Housing Trust", { folder: "/" });
  world = new MailTenants(freshFolder("mail"));
  tenant = {
    tenantId: "trust",
    applications: [{ clientId: "keep", secret: "right", expiresAt: "2199-01-01T00:00:00.000Z" }],
    mailboxes: [mailbox("lettings"), mailbox("accounts")],
  };
  world.add(tenant);
  const calendar = { id: "c", kind: "calendar" as const, name: "Lettings", items: [] };
  box("lettings").collections = [calendar];
  const entry = eventOf("roof", "Roof inspection", "20261203T080000Z", ["LOCATION:Tern House"]);
  world.putItem(tenant, box("lettings"), calendar, "roof.ics", entry, new Date());
  for (const [n, subject] of ["Boiler inspection", "Keys for the side door", "Minutes of Tuesday"].entries())
    world.deliver(
      tenant,
      box("lettings"),
      {
        id: `e${n}`,
        mailboxIds: { inbox: true },
        keywords: n === 0 ? {} : { $seen: true },
        receivedAt: `2026-11-0${n + 1}T08:00:00.000Z`,
        subject,
      },
      Buffer.from(
        `From: Maren Pell <maren@quillmere.example>\r\nTo: lettings@pendlewick.example\r\nSubject: ${subject}\r\nMessage-ID: <${n}@quillmere.example>\r\nContent-Type: text/html\r\n\r\n<p>About <b>${subject.toLowerCase()}</b>.</p><script>document.title = "taken over"</script>\r\n`,
      ),
    );
  server = new MailServer(world);
  const address = await server.listen();
  await console_.ok("POST", `/clients/${client.id}/connections`, {
    kind: "mail",
    siteId: client.siteId,
    name: "Trust mail",
    address,
    dav: `${address}/dav/principals/{mailbox}/`,
    tenantId: "trust",
    clientId: "keep",
    clientSecret: "right",
    region: "north harbour",
  });
  const { sources } = await console_.ok<{ sources: { id: string; name: string }[] }>(
    "GET",
    `/sources?client=${client.id}`,
  );
  const lettings = sources.find((one) => one.name.startsWith("lettings"))!;
  await console_.ok("PATCH", `/sources/${lettings.id}`, { policyId: client.policyId });
  expect((await backUp(console_, lettings.id)).outcome).toBe("clean");
  const { person } = await console_
    .ok<{ person: { id: string }; invitation: { url: string } }>("POST", `/clients/${client.id}/people`, {
      name: "Corin Ashby",
      email: "corin@pendlewick.example",
      role: "person",
    })
    .then(async (made) => {
      await console_.call("POST", `/invitations/${made.invitation.url.split("/").at(-1)}`, {
        password: PASSWORD,
      });
      return made;
    });
  await console_.ok("POST", `/clients/${client.id}/gifts`, {
    personId: person.id,
    sourceId: lettings.id,
    path: "/",
    askFirst: false,
  });
  browser = await openBrowser();
});
afterAll(async () => {
  await browser?.quit();
  await server?.close();
  await console_?.stop();
});

describe("a mailbox that somebody emptied", () => {
  it("is looked into by the technician: folders, a message in a frame, a search", async () => {
    box("lettings").messages = [];
    await signInAs(browser, console_.url, "ines@lanternfold.example", console_.password);
    await open(`/c/${client.slug}/main-site/lettings-pendlewick-example/restore`);
    await press(browser, "Boiler inspection (unread)");
    await seeText(browser, "Maren Pell <maren@quillmere.example> to lettings@pendlewick.example");
    const frame = await see(browser, "iframe[sandbox='']");
    await browser.switchTo().frame(frame);
    expect(await (await browser.findElement(By.css("body"))).getText()).toBe("About boiler inspection.");
    await browser.switchTo().defaultContent();
    expect(await browser.getTitle()).not.toContain("taken over");
    await seemlyToAll(browser, "mail in Restore");
    const search = await see(browser, "[data-filter]");
    await search.sendKeys("subject:keys from:maren\n");
    await seeText(browser, "1 item found among 4 of 4.");
  });

  it("has calendars beside the folders of the mail, with their entries", async () => {
    await (await see(browser, "[data-folder='/Calendars/Lettings']")).click();
    await press(browser, "Roof inspection");
    await seeText(browser, "Tern House");
    await seeText(browser, "Thu 3 December 2026, 08:00");
    await seemlyToAll(browser, "a calendar entry");
    await (await see(browser, "[data-folder='/Inbox']")).click();
  });

  it("is restored where it was, with one click on its folder", async () => {
    await open(`/c/${client.slug}/main-site/lettings-pendlewick-example/restore`);
    // a message first, then the folder that it is in: it counts once
    await (await see(browser, "[aria-label='Add to basket: Minutes of Tuesday']")).click();
    await (await see(browser, "[aria-label='Add to basket: folder Inbox']")).click();
    const covered = await see(browser, "[aria-label='Add to basket: Minutes of Tuesday']");
    expect([await covered.isSelected(), await covered.isEnabled()]).toEqual([true, false]);
    await seeText(browser, "3 items from");
    await seeText(browser, "Existing items are kept.");
    await press(browser, "Restore 3 items");
    await until(async () => box("lettings").messages.length === 3, "the messages are not restored");
    expect(subjects("lettings")).toEqual([
      "Boiler inspection",
      "Keys for the side door",
      "Minutes of Tuesday",
    ]);
    expect(box("lettings").messages.map((one) => one.keywords)).toContainEqual({ $seen: true });
  });

  it("gives single messages to a folder of another mailbox", async () => {
    await open(`/c/${client.slug}/main-site/lettings-pendlewick-example/restore`);
    await (await see(browser, "[aria-label='Add to basket: Minutes of Tuesday']")).click();
    await (await browser.findElement(By.xpath("//label[contains(., 'Another mailbox or folder')]"))).click();
    await choose(browser, "Mailbox", "accounts@pendlewick.example");
    await type(browser, "Folder (optional)", "From lettings");
    await seemlyToAll(browser, "where mail is restored to");
    await press(browser, "Restore 1 item");
    await until(async () => box("accounts").messages.length === 1, "the message is not restored");
    const folder = box("accounts").folders.find((one) => one.name === "From lettings")!;
    expect(box("accounts").messages[0]).toMatchObject({
      subject: "Minutes of Tuesday",
      mailboxIds: { [folder.id]: true },
    });
  });

  it("is connected over IMAP by a form that says what each way needs", async () => {
    await open(`/c/${client.slug}/sources?sheet=connect`);
    await browser.wait(
      async () =>
        (await browser.findElements(By.xpath("//label[normalize-space(.)='Protocol']"))).length > 0 ||
        // the page may not listen yet when it is clicked first
        (await browser.executeScript(
          "[...document.querySelectorAll('label')].find((one) => /Mail tenant/.test(one.textContent))?.click()",
        )),
      60_000,
      "the form of a mail tenant does not open",
    );
    await choose(browser, "Protocol", "IMAP");
    await choose(browser, "Sign in with", "Master user");
    await type(browser, "Name, as people call it", "Old mail");
    await type(browser, "Address of the mail server", "imap://127.0.0.1:2");
    await type(browser, "Master user", "keep");
    await type(browser, "Password", "master");
    await type(browser, "Mailboxes", "lettings");
    await type(browser, "Region of the mail data", "north harbour");
    await press(browser, "Test and connect");
    await seeText(browser, "nothing listens on that port");
    await seemlyToAll(browser, "connecting over IMAP");
  });

  it("is read and restored by its owner in the portal", async () => {
    box("lettings").messages = box("lettings").messages.filter((one) => one.subject !== "Boiler inspection");
    await browser.manage().deleteAllCookies();
    await signInAs(browser, console_.url, "corin@pendlewick.example", PASSWORD);
    await open("/portal/restore");
    await press(browser, "Boiler inspection (unread)");
    await see(browser, "iframe[sandbox='']");
    await seemlyToAll(browser, "mail in the portal");
    await (await see(browser, "[aria-label='Add to basket: Boiler inspection']")).click();
    await seeText(browser, "Existing items are kept.");
    await (await see(browser, "[data-restore-files]:not([disabled])")).click();
    await seeText(browser, "Restored to the original location: 1 item.");
    expect(subjects("lettings")).toEqual([
      "Boiler inspection",
      "Keys for the side door",
      "Minutes of Tuesday",
    ]);
  });
});
