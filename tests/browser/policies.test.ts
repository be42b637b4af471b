import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { By, Key, type WebDriver } from "selenium-webdriver";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { seemlyToAll } from "../accessible";
import { openBrowser, press, see, seeText, signInAs, type } from "../browser";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole, until } from "../test-console";

/** Policies and the load of the week, as a technician works with them. */
let console_: TestConsole;
let browser: WebDriver;
let client: TestClient;
let machine: TestMachine;

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Ostrel Land Surveyors", {
    clauses: {
      when: { schedules: [{ rule: "FREQ=DAILY;BYHOUR=21;BYMINUTE=30" }], targetHours: 26 },
      howLong: { kind: "days", days: 90 },
    },
  });
  machine = await enrolMachine(console_, client, "ost-lt-01");
  mkdirSync(join(machine.root, "data/plans"));
  for (let i = 0; i < 4; i += 1)
    writeFileSync(join(machine.root, `data/plans/plan ${i}.dwg`), `plan ${i}\n`.repeat(500));
  writeFileSync(join(machine.root, "data/flight.mp4"), "a film\n");
  console_.runAgent(machine.state);
  await console_.addPerson({
    email: "tobias@lanternfold.example",
    name: "Tobias Renn",
    role: "technician",
    clientId: null,
  });
  browser = await openBrowser();
  await signInAs(browser, console_.url, "ines@lanternfold.example", console_.password);
});
afterAll(async () => {
  await browser?.quit();
  await console_?.stop();
});

const accessible = (page: string) => seemlyToAll(browser, page);
const open = (path: string) => browser.get(console_.url + path);
const openClause = async (title: string) => {
  const button = await browser.wait(
    async () =>
      (await browser.findElements(By.xpath(`//button[@aria-expanded][b[normalize-space(.)="${title}"]]`)))[0],
    15_000,
  );
  if ((await button!.getAttribute("aria-expanded")) === "false") await button!.click();
};

describe("a policy", () => {
  it("shows what follows while one types, and takes effect on the next run", async () => {
    expect((await backUp(console_, machine.sourceId)).figures).toMatchObject({ files: 5 });
    await open(`/c/${client.slug}/policies`);
    await seeText(browser, "All copies are in");
    await openClause("When");
    await type(browser, "At, by the clock of Europe/London", "22:45");
    await seeText(browser, "22:45; no recovery point older than 26 hours");
    await openClause("What");
    await type(browser, "Exclude patterns", "*.mp4");
    await type(browser, "Reason (shown in the history)", "films are kept elsewhere");
    await accessible("policy sheet");
    await press(browser, "Save");
    await seeText(browser, "saved.");
    expect((await backUp(console_, machine.sourceId)).figures).toMatchObject({ files: 4 });
    const { policy } = await console_.ok<{
      policy: { clauses: { when: { schedules: { rule: string }[] } } };
    }>("GET", `/policies/${client.policyId}`);
    expect(policy.clauses.when.schedules).toEqual([
      { rule: "FREQ=DAILY;BYHOUR=22;BYMINUTE=45", pass: "incremental" },
    ]);
  });

  it("says beside the field what cannot be, and saves nothing", async () => {
    await open(`/c/${client.slug}/policies`);
    await openClause("When");
    const kind = await browser.findElement(By.xpath("//select[option[@value='rule']]"));
    await kind.sendKeys("By a rule");
    await type(browser, "Rule", "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=31");
    await seeText(browser, "This rule never fires: none of its months has such a day.");
    const save = await browser.findElement(By.xpath("//button[normalize-space(.)='Save']"));
    expect(await save.isEnabled()).toBe(false);
  });

  it("lets advice be set aside with a reason, which the trail keeps", async () => {
    await open(`/c/${client.slug}/policies`);
    const advice = await seeText(browser, "All copies are in");
    await (
      await advice.findElement(By.xpath(".//button[contains(., 'Dismiss')] | ./following-sibling::button"))
    ).click();
    await type(browser, "Reason (recorded in the trail)", "they bought one place");
    await press(browser, "Dismiss");
    await seeText(browser, "“they bought one place”");
    await open(`/c/${client.slug}/trail`);
    await seeText(browser, "dismissed advice");
  });

  it("that keeps points for a shorter time waits for a second person", async () => {
    await open(`/c/${client.slug}/policies`);
    await openClause("How long");
    await type(browser, "Days", "14");
    await type(browser, "Reason (shown in the history)", "the depot is small");
    await press(browser, "Save");
    await seeText(browser, "Approval requested: points would be kept for a shorter time.");
    const kept = async () =>
      (
        await console_.ok<{ policy: { clauses: { howLong: { days: number } } } }>(
          "GET",
          `/policies/${client.policyId}`,
        )
      ).policy.clauses.howLong.days;
    expect(await kept()).toBe(90);
    await browser.manage().deleteAllCookies();
    await signInAs(browser, console_.url, "tobias@lanternfold.example", console_.password);
    await open(`/c/${client.slug}/watch`);
    await press(browser, "Agree");
    await until(async () => (await kept()) === 14, "it is not put into effect");
  });
});

describe("the load of the week", () => {
  it("is read and moved by keyboard alone, and saved as a change of the clause", async () => {
    await open("/all/runs?part=load");
    await seeText(browser, "Effects of the move");
    await accessible("load");
    await press(browser, "Spread these");
    await seeText(browser, "Nothing collides at any depot");
    const bar = await see(browser, "[role=slider]");
    await browser.executeScript("arguments[0].focus()", bar);
    await bar.sendKeys(Key.ARROW_RIGHT, Key.ARROW_RIGHT);
    await seeText(browser, "22:45 → 23:15 (+30 min), 1 source");
    await press(browser, "Save 1 change");
    await seeText(browser, "1 policy moved.");
    const { policy } = await console_.ok<{
      policy: { revision: number; clauses: { when: { schedules: object[] } } };
    }>("GET", `/policies/${client.policyId}`);
    expect(policy.clauses.when.schedules).toEqual([
      { rule: "FREQ=DAILY;BYHOUR=23;BYMINUTE=15", pass: "incremental" },
    ]);
  });

  it("has a place where messages and their ways are", async () => {
    await open("/all/runs?part=messages");
    await seeText(browser, "No messages yet.");
    await accessible("messages");
    await type(browser, "Mail server", "mail.lanternfold.example");
    await type(browser, "From", "nobody");
    await press(browser, "Save");
    await seeText(browser, "Enter the address that mail comes from.");
    await type(browser, "From", "deep-keep@lanternfold.example");
    await press(browser, "Save");
    await seeText(browser, "mail.lanternfold.example, port 587");
  });
});
