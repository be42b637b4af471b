import { randomBytes } from "node:crypto";
import { mkdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { generate } from "otplib";
import { By, Key, type WebDriver } from "selenium-webdriver";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { noteTodaysUsage } from "@/server/statements/usage";
import { seemlyToAll } from "../accessible";
import { field, openBrowser, press, printedGroups, see, seeText, signInAs, type } from "../browser";
import { freshFolder } from "../depot";
import { TestConsole, until } from "../test-console";

/** The whole path as a person walks it, from an empty console to a restored file and a client's statement. */
let console_: TestConsole;
let browser: WebDriver;
const root = freshFolder("machine");
const depotPath = freshFolder("depot");
const letter = join(root, "home/reception/Letters/Referral Marrow.odt");
const content = randomBytes(48_000);

beforeAll(async () => {
  console_ = await TestConsole.start({ empty: true });
  browser = await openBrowser();
  mkdirSync(join(root, "home/reception/Letters"), { recursive: true });
  writeFileSync(letter, content);
  for (let i = 0; i < 30; i += 1)
    writeFileSync(join(root, `home/reception/note ${i}.txt`), `note ${i}\n`.repeat(100));
});
afterAll(async () => {
  await browser?.quit();
  await console_?.stop();
});

const accessible = (page: string) => seemlyToAll(browser, page);
const open = (path: string) => browser.get(console_.url + path);

describe("the whole path in the browser", () => {
  it("leads an empty console to the page that makes the owner", async () => {
    await open("/");
    await seeText(browser, "Create the owner account of this console");
    await accessible("setup");
    await type(browser, "Name of the provider", "Lanternfold");
    await type(browser, "Your name", "Ines Marlow");
    await type(browser, "Your e-mail address", "ines@lanternfold.example");
    await type(browser, "A password", "short");
    await press(browser, "Create owner");
    await seeText(browser, "At least 12 characters");
    expect(await (await field(browser, "Name of the provider")).getAttribute("value")).toBe("Lanternfold");
    await type(browser, "A password", "lantern over the quay");
    await press(browser, "Create owner");
  });

  let codes: string[] = [];
  it("opens nothing before the second factor that a new console demands", async () => {
    await seeText(browser, "Your role must have a second factor");
    await open("/all/sources");
    await seeText(browser, "Your role must have a second factor");
    await accessible("second factor, missing");
    await type(browser, "Current password", "lantern over the quay");
    await press(browser, "Set up second factor");
    const seed = await (await see(browser, "[data-seed]")).getAttribute("data-seed");
    await type(browser, "Six-digit code", await generate({ secret: seed! }));
    await press(browser, "Turn on second factor");
    codes = (await (await see(browser, "ol[aria-label='Recovery codes']")).getText()).split(/\s+/);
    await press(browser, "I have saved them");
    await seeText(browser, "10 of 10 recovery codes are left");
  });

  it("signs in with a code, refuses a wrong password in words, and leads to no other host", async () => {
    await press(browser, "You: Ines Marlow");
    await press(browser, "Sign out");
    await see(browser, "input[type=password]");
    await accessible("sign-in");
    await type(browser, "E-mail address", "ines@lanternfold.example");
    await type(browser, "Password", "wrong");
    await press(browser, "Sign in");
    await seeText(browser, "The address or the password is wrong");
    for (const [to, password] of [
      ["//elsewhere.example", "wrong"],
      ["/\\elsewhere.example", "lantern over the quay"],
    ] as const) {
      await open(`/sign-in?to=${encodeURIComponent(to)}`);
      await type(browser, "E-mail address", "ines@lanternfold.example");
      await type(browser, "Password", password);
      await press(browser, "Sign in");
    }
    await type(browser, "Code of your second factor", codes[0]!);
    await press(browser, "Sign in");
    await seeText(browser, "Nothing is protected here yet");
    expect(await browser.getCurrentUrl()).toBe(`${console_.url}/all/watch`);
    await accessible("watch, empty");
  });

  it("takes on a client with its sites", async () => {
    await press(browser, "Add client…");
    await type(browser, "Name of the client", "Quillmere Veterinary Group");
    await type(browser, "Region in which its data may lie", "north harbour");
    await type(browser, "Person to talk to", "Maren Pell");
    await type(browser, "Their e-mail address", "maren");
    await type(browser, "Time zone", "Pacific/Auckland");
    await type(browser, "Sites (one per line)", "North clinic\nSouth clinic");
    await press(browser, "Add client");
    await seeText(browser, "Enter an e-mail address");
    await type(browser, "Their e-mail address", "maren.pell@quillmere.example");
    await press(browser, "Add client");
    await seeText(browser, "Connect sources");
    await until(
      async () => (await browser.getCurrentUrl()).includes("/c/quillmere/sources"),
      "the new client's scope does not open",
    );
    await see(browser, "input[aria-label='Filter sources']");
  });

  it("makes an enrolment code; the machine appears without reloading", async () => {
    await accessible("connect");
    await press(browser, "Create enrolment code");
    const code = /[0-9A-Z]{4}-[0-9A-Z]{4}-[0-9A-Z]{4}/.exec(
      await (await seeText(browser, "Enrolment code (shown once)")).getText(),
    )![0];
    const state = join(freshFolder("agent"), "s");
    expect(
      (
        await console_.agent([
          "enrol",
          "--console",
          console_.url,
          "--code",
          code,
          "--name",
          "quill-lt-04",
          "--root",
          root,
          "--state",
          state,
        ])
      ).output,
    ).toMatch(/Enrolled quill-lt-04/);
    console_.runAgent(state);
    const row = await seeText(browser, "quill-lt-04 files");
    await row.click();
    await seeText(browser, "Remove machine…");
    await accessible("sources");
  });

  it("adds a depot, tested step by step, and grants it with a quota", async () => {
    await open("/all/depots?sheet=depot");
    await type(browser, "Name", "Harbour");
    await type(browser, "Folder on the console's machine", "/nowhere/at/all");
    await type(browser, "Region", "north harbour");
    await press(browser, "Add depot");
    await seeText(browser, "does not exist");
    await type(browser, "Folder on the console's machine", depotPath);
    await press(browser, "Test");
    await seeText(browser, "List the probe");
    await seeText(browser, "This folder is on the system volume");
    await press(browser, "Add depot");
    await seeText(browser, "Not granted to any client yet");
    await type(browser, "Quota", "2 GiB");
    await press(browser, "Grant");
    await seeText(browser, "2.00 GiB");
    await accessible("depots");
  });

  it("writes a policy as a sheet, with the key shown once and confirmed", async () => {
    await open("/c/quillmere/policies?sel=new");
    await type(browser, "Name of the policy", "Clinics, every evening");
    await type(browser, "Folders (one per line)", "/home");
    await browser.findElement(By.xpath("//button[b[text()='When']]")).click();
    await type(browser, "At, by the clock of", "25:99");
    await seeText(browser, "Enter a time as HH:MM");
    await type(browser, "At, by the clock of", "21:30");
    await seeText(browser, "Next runs");
    await seeText(browser, "Europe/London").catch(() => seeText(browser, "UTC"));
    await press(browser, "Create key");
    await see(browser, "[data-key-groups]");
    const groups = await Promise.all(
      (await browser.findElements(By.css("[data-key-groups] b"))).map((group) => group.getText()),
    );
    expect(groups).toHaveLength(13);
    await accessible("policies");
    expect(await printedGroups(browser)).toEqual(groups);
    const asked = await browser.findElement(By.xpath("//label[starts-with(normalize-space(.), 'Group ')]"));
    const number = Number(/Group (\d+)/.exec(await asked.getText())![1]);
    await type(browser, "Group ", "ZZZZZ");
    await press(browser, "Confirm the key");
    await see(browser, ".field-error");
    await type(browser, "Group ", groups[number - 1]!);
    await press(browser, "Confirm the key");
    await seeText(browser, "its sheet is confirmed");
    await press(browser, "Save");
    await seeText(browser, "saved.");
  });

  it("assigns it and backs up now, with progress that comes by itself", async () => {
    await open("/c/quillmere/sources");
    await (await seeText(browser, "quill-lt-04 files")).click();
    const select = await see(browser, "select[aria-label='Policy of this source']");
    await select.findElement(By.xpath(".//option[contains(., 'Clinics')]")).click();
    await seeText(browser, "Override a clause for this source");
    await press(browser, "Back up now");
    await seeText(browser, "clean");
    await see(browser, "[data-point]");
    await open("/c/quillmere/runs");
    await seeText(browser, "31 files");
    await accessible("runs");
  });

  it("restores a deleted file through Restore, byte for byte", async () => {
    rmSync(letter);
    await open("/c/quillmere/north-clinic/quill-lt-04-files/restore");
    await (await see(browser, "[data-folder='/home/reception/Letters']")).click();
    await (await see(browser, "[data-entry='/home/reception/Letters/Referral Marrow.odt']")).click();
    await seeText(browser, "1 version in 1 points");
    await accessible("restore");
    await (await see(browser, "input[aria-label='Add to basket: Referral Marrow.odt']")).click();
    expect(await (await see(browser, "[data-said]")).getText()).toContain("/home/reception/Letters");
    const button = await see(browser, "[data-restore]");
    await until(async () => (await button.getText()).includes("1 file"), "the basket is not weighed");
    await button.click();
    await until(async () => readFileSync(letter).equals(content), "the file does not come back");
  });

  it("finds a file by its name", async () => {
    const search = await see(browser, "input[aria-label='Search by name at this moment']");
    await search.sendKeys("referral", Key.ENTER);
    await seeText(browser, "1 found among");
  });

  it("states how the client stands, for a technician and for the client's own people", async () => {
    await open("/c/quillmere/statements");
    await seeText(browser, "The source is kept within its target");
    await seeText(browser, "1 item");
    await accessible("statements");
    const { clients } = await console_.services.db.withScope({ role: "system" }, async (tx) => ({
      clients: (await tx.query("select id from clients")).rows as { id: string }[],
    }));
    await console_.addPerson({
      email: "maren@quillmere.example",
      name: "Maren Pell",
      role: "manager",
      clientId: clients[0]!.id,
    });
    await press(browser, "You: Ines Marlow");
    await press(browser, "Sign out");
    await signInAs(browser, console_.url, "maren@quillmere.example", console_.password);
    await seeText(browser, "Nothing is shared with you yet");
    await press(browser, "Statements");
    await seeText(browser, "The source is kept within its target");
    expect(await browser.findElements(By.linkText("Sources"))).toHaveLength(0);
    await open("/all/watch");
    await seeText(browser, "Not found");
    await open("/c/quillmere/restore");
    await seeText(browser, "Not found");
    await open("/");
    await press(browser, "You: Maren Pell");
    await press(browser, "Sign out");
  });

  it("shows it all in Watch and in the trail, by the keys", async () => {
    await signInAs(browser, console_.url, "ines@lanternfold.example", "lantern over the quay", codes[1]);
    await seeText(browser, "Nothing needs you");
    await accessible("watch");
    await browser.actions().sendKeys("g", "l").perform();
    await seeText(browser, "requested a restore");
    for (const deed of [
      "added a client",
      "enrolled a machine",
      "confirmed the client's key",
      "created a policy",
      "added a depot",
    ])
      await seeText(browser, deed);
    await accessible("trail");
    await browser.actions().sendKeys("?").perform();
    await seeText(browser, "commands and places");
    await browser.actions().sendKeys(Key.ESCAPE).perform();
    await browser.actions().keyDown(Key.CONTROL).sendKeys("k").keyUp(Key.CONTROL).perform();
    const command = await see(browser, "input[cmdk-input]");
    await command.sendKeys("north clinic");
    await (await seeText(browser, "› North clinic")).click();
    await until(
      async () => (await browser.getCurrentUrl()).includes("/c/quillmere/north-clinic"),
      "the command field does not lead there",
    );
  });

  it("proves by a drill that it restores; the run, the statement and Usage say so", async () => {
    await open("/c/quillmere/north-clinic/quill-lt-04-files/sources");
    await seeText(browser, "No drill yet");
    await press(browser, "Run drill now");
    await until(async () => {
      await open("/c/quillmere/north-clinic/quill-lt-04-files/sources");
      return (await browser.findElement(By.css("body")).getText()).includes("every byte as it was");
    }, "the drill does not come to its end");
    await accessible("a source with its proof");
    await press(browser, "Its run");
    await seeText(browser, "Drill of quill-lt-04 files");
    await seeText(browser, "BLAKE3 of the list of files");
    await accessible("the run of a drill");
    await open("/c/quillmere/statements");
    await seeText(browser, "1 drill: 1 of 1 source was restored on purpose and came back as it was.");
    await (await see(browser, "details summary")).click();
    await accessible("a statement with a drill");
    await noteTodaysUsage(console_.services);
    await open("/all/statements");
    await press(browser, "Usage");
    await seeText(browser, "Usage is recorded for 1 day of this period.");
    await accessible("usage");
    // what the client has bought, where its use stands: what is wrong is said at its field, and nothing is lost
    await press(browser, "Change the contract of Quillmere Veterinary Group");
    const machines = await see(browser, "form input[inputmode=numeric]");
    await machines.sendKeys("three");
    await press(browser, "Save contract");
    await seeText(browser, "Enter a whole number.");
    expect(await machines.getAttribute("value")).toBe("three");
    await accessible("usage with an error");
    await machines.clear();
    await machines.sendKeys("0");
    await press(browser, "Save contract");
    await seeText(browser, "Contract of Quillmere Veterinary Group saved.");
    await open("/all/watch");
    await seeText(browser, "Quillmere Veterinary Group: 1 machine protected, 0 contracted");
  });

  it("keeps a theme that was chosen, and both are legible", async () => {
    await press(browser, "You: Ines Marlow");
    await browser.findElement(By.xpath("//label[contains(., 'nightwatch')]/input")).click();
    await open("/c/quillmere/sources");
    expect(await browser.findElement(By.css("html")).getAttribute("data-theme")).toBe("nightwatch");
    for (const path of [
      "/all/watch",
      "/c/quillmere/sources",
      "/c/quillmere/policies",
      "/all/depots",
      "/all/runs",
      "/c/quillmere/north-clinic/quill-lt-04-files/restore",
      "/c/quillmere/statements",
      "/all/trail",
    ]) {
      await open(path);
      await see(browser, "nav[aria-label=Views]");
      await accessible(`${path} at night`);
    }
  });
});
