import { randomBytes } from "node:crypto";
import { readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { By, type WebDriver } from "selenium-webdriver";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { seemlyToAll } from "../accessible";
import { openBrowser, press, see, seeText, signInAs, steadily } from "../browser";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole, until } from "../test-console";

/** The morning after a night of mass encryption, as a technician lives through it. */
let console_: TestConsole;
let browser: WebDriver;
let client: TestClient;
let machine: TestMachine;
const data = () => join(machine.root, "data");
const letter = (i: number, round = 0) =>
  `Dear tenant ${i}, your rent falls due in week ${round}. `.repeat(60);
const open = (path: string) => browser.get(console_.url + path);

beforeAll(async () => {
  console_ = await TestConsole.start();
  console_.startViewer();
  client = await makeClient(console_, "Pendlewick Housing Trust");
  machine = await enrolMachine(console_, client, "pend-srv-01");
  console_.runAgent(machine.state);
  for (let i = 0; i < 40; i += 1) writeFileSync(join(data(), `letter ${i}.txt`), letter(i));
  await backUp(console_, machine.sourceId);
  for (let round = 1; round <= 5; round += 1) {
    writeFileSync(join(data(), `letter ${round}.txt`), letter(round, round));
    await backUp(console_, machine.sourceId);
  }
  for (const name of readdirSync(data()).filter((one) => one.endsWith(".txt"))) {
    const { length } = readFileSync(join(data(), name));
    rmSync(join(data(), name));
    writeFileSync(join(data(), `${name}.crab`), randomBytes(length));
  }
  await backUp(console_, machine.sourceId);
  browser = await openBrowser();
  await signInAs(browser, console_.url, "ines@lanternfold.example", console_.password);
});
afterAll(async () => {
  await browser?.quit();
  await console_?.stop();
});

describe("something is eating the files of a machine", () => {
  it("stands first in Watch, with its evidence and what to do", async () => {
    await open("/all/watch");
    const first = await see(browser, "[data-row]");
    expect(await first.getText()).toContain("pend-srv-01 changed");
    await seeText(browser, "A program on pend-srv-01 encrypts files.");
    await seeText(
      browser,
      "Nothing of pend-srv-01 files is dropped or purged until somebody dismisses the alarm.",
    );
    await seeText(browser, "locked for 30 days");
    await seemlyToAll(browser, "Watch with an alarm");
  });

  it("leads to the last good moment, from which the folder comes back as it was", async () => {
    await press(browser, "Restore from before the change");
    await seeText(browser, "pend-srv-01 files");
    await see(browser, "[data-entry$='letter 7.txt']");
    await steadily(async () => (await see(browser, "[aria-label='Add to basket: data']")).click());
    await seeText(browser, "40 files");
    await press(browser, "Restore 40 files");
    await seeText(browser, "Restore requested");
    const back = () => readdirSync(data()).filter((name) => name.endsWith(".txt"));
    await until(async () => back().length === 40, "the letters do not come back");
    expect(readFileSync(join(data(), "letter 7.txt"), "utf8")).toBe(letter(7));
    expect(readFileSync(join(data(), "letter 3.txt"), "utf8")).toBe(letter(3, 3));
  });

  it("is over when somebody says so, and the trail has who", async () => {
    await open("/all/watch");
    await press(browser, "Dismiss alarm (expected change, or resolved)");
    await until(async () => {
      const { causes } = await console_.ok<{ causes: { kind: string }[] }>("GET", "/watch");
      return !causes.some(({ kind }) => kind === "burst");
    }, "the alarm is not lifted");
    await open(`/c/${client.slug}/trail`);
    await seeText(browser, "lifted a hold");
  });
});

describe("looking closer", () => {
  const base = async () => {
    const { places } = await console_.ok<{ places: { base: string; label: string }[] }>(
      "GET",
      "/places?q=pend-srv-01",
    );
    return places.at(-1)!.base;
  };

  it("shows what a letter said, and what changed in it from one evening to the next", async () => {
    const { points } = await console_.ok<{ points: { id: string }[] }>(
      "GET",
      `/sources/${machine.sourceId}/recovery-points`,
    );
    // the newest before the night: the letters are as they were
    await open(`${await base()}/restore?point=${points[1]!.id}`);
    await (await see(browser, "[data-entry$='letter 3.txt']")).click();
    await seeText(browser, "2 versions in");
    await press(browser, "what changed");
    await seeText(browser, "falls due in week 3.");
    expect(await browser.findElements(By.xpath("//tr[td[contains(., '+')]]"))).toHaveLength(1);
    await seemlyToAll(browser, "What changed in a file");
    await press(browser, "Back to the files");
    await press(browser, "look");
    expect(await (await see(browser, "pre")).getAttribute("textContent")).toBe(letter(3, 3));
    await press(browser, "Back to the files");
  });

  it("finds by size, and says what is wrong with one", async () => {
    await press(browser, "size, date");
    const size = await see(browser, "[aria-label='Size from']");
    await size.sendKeys("some");
    await press(browser, "Search");
    await seeText(browser, "Enter a size such as 20 MB.");
    await size.clear();
    await size.sendKeys("1 kB");
    await press(browser, "Search");
    await seeText(browser, "40 found among");
  });

  it("opens the moment as a network folder for somebody, and closes it", async () => {
    await press(browser, await openerOf(browser));
    await press(browser, "Open it");
    await seeText(browser, "Choose who may look.");
    await browser.findElement(By.xpath("//label[contains(., 'Ines Marlow')]/input")).click();
    await press(browser, "Open it");
    const address = await (await seeText(browser, "/viewings/")).getText();
    await seeText(browser, "Ines Marlow: not connected yet");
    await seemlyToAll(browser, "Restore with a viewing");
    expect((await fetch(address)).status).toBe(401);
    await press(browser, "Close");
    await until(
      async () => (await console_.ok<{ viewings: unknown[] }>("GET", "/viewings")).viewings.length === 0,
      "the viewing is not closed",
    );
  });

  it("writes to the statement what was done, and sends it out by a link", async () => {
    await console_.ok("PATCH", `/sources/${machine.sourceId}`, { paused: false });
    await open(`/c/${client.slug}/statements`);
    await seeText(browser, "Delivery");
    await seeText(browser, "No mail server is set up");
    await seemlyToAll(browser, "A statement");
    await press(browser, "Create link");
    const address = await (await seeText(browser, "/statement/")).getText();
    await browser.manage().deleteAllCookies();
    await browser.get(address);
    await seeText(browser, "this link is valid until");
    await seeText(browser, "pend-srv-01 files");
    await seemlyToAll(browser, "A statement by its link");
    await open("/all/watch");
    await seeText(browser, "E-mail address");
  });
});

/** What is on the button that opens a viewing: it names the moment. */
async function openerOf(driver: WebDriver): Promise<string> {
  return (await driver.findElement(By.xpath("//button[contains(., 'for other people')]"))).getText();
}
