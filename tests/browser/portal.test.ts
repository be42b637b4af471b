import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { generate } from "otplib";
import { By, Key, type WebDriver } from "selenium-webdriver";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { seemlyToAll } from "../accessible";
import { choose, openBrowser, press, see, seeText, signInAs, type } from "../browser";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole, until } from "../test-console";

/** A client's people help themselves: invited, given a folder, and getting it back without calling anybody. */
let console_: TestConsole;
let browser: WebDriver;
let client: TestClient;
let machine: TestMachine;
const PASSWORD = "rye bread before sunrise";
const inHome = (path: string) => join(machine.root, "data/greta", path);
const open = (path: string) => browser.get(console_.url + path);
const signOut = async (name: string) => {
  await press(browser, `You: ${name}`);
  await press(browser, "Sign out");
  await see(browser, "input[type=email]");
};

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Vossel & Daughters Bakery");
  machine = await enrolMachine(console_, client, "voss-lt-02");
  console_.runAgent(machine.state);
  mkdirSync(inHome("Recipes"), { recursive: true });
  mkdirSync(join(machine.root, "data/till"));
  writeFileSync(inHome("Recipes/Rye.txt"), "rye, water, salt, a day");
  writeFileSync(inHome("Rota.txt"), "Greta on Tuesdays");
  writeFileSync(join(machine.root, "data/till/Takings.csv"), "nobody else's");
  await backUp(console_, machine.sourceId);
  browser = await openBrowser();
});
afterAll(async () => {
  await browser?.quit();
  await console_?.stop();
});

describe("one of a client's people", () => {
  it("is invited and given a folder by the technician", async () => {
    await signInAs(browser, console_.url, "ines@lanternfold.example", console_.password);
    await open(`/people?of=${client.slug}`);
    await type(browser, "Name", "Greta Vossel");
    await type(browser, "E-mail address", "greta@vossel.example");
    await press(browser, "Invite");
    const made = await see(browser, "[data-invitation]");
    const address = (await made.getAttribute("data-invitation"))!;
    const { people } = await console_.ok<{ people: { id: string }[] }>("GET", `/clients/${client.id}/people`);
    await open(`/people?of=${client.slug}&sel=${people[0]!.id}`);
    await seeText(browser, "Nothing yet. The portal is empty for this person");
    await choose(browser, "Give", "voss-lt-02 files");
    await type(browser, "Folder", "/data/greta");
    await press(browser, "Give access");
    await seeText(browser, "/data/greta", 'aria-label="Given"');
    await seemlyToAll(browser, "people");
    await signOut("Ines Marlow");
    await browser.get(address);
    await seeText(browser, "Welcome, Greta Vossel");
    await seemlyToAll(browser, "invitation");
    await type(browser, "Choose a password", PASSWORD);
    await press(browser, "Save and sign in");
    await seeText(browser, "Hello Greta");
  });

  it("gets back what she deleted, where it was, by keyboard", async () => {
    rmSync(inHome("Recipes"), { recursive: true });
    await open("/portal/restore");
    const tick = await see(browser, "[aria-label='Add to basket: Recipes']");
    await browser.executeScript("arguments[0].focus()", tick);
    await tick.sendKeys(Key.SPACE);
    await seeText(browser, "1 file");
    const button = await see(browser, "[data-restore-files]:not([disabled])");
    await browser.executeScript("arguments[0].focus()", button);
    await button.sendKeys(Key.ENTER);
    await seeText(browser, "Restored to the original location: 1 file.");
    expect(readFileSync(inHome("Recipes/Rye.txt"), "utf8")).toBe("rye, water, salt, a day");
    expect(existsSync(join(machine.root, "data/till/Takings.csv"))).toBe(true);
  });

  it("never overwrites: what is there stays, and the old one comes beside it", async () => {
    writeFileSync(inHome("Rota.txt"), "spoilt");
    await open("/portal/restore");
    await (await see(browser, "[aria-label='Add to basket: Rota.txt']")).click();
    await (await see(browser, "[data-restore-files]:not([disabled])")).click();
    await seeText(browser, "beside an existing file");
    expect(readFileSync(inHome("Rota.txt"), "utf8")).toBe("spoilt");
    expect(readdirSync(inHome("")).filter((name) => name.startsWith("Rota"))).toHaveLength(2);
  });

  it("reaches nothing else, by whatever address", async () => {
    for (const path of [
      "/all/watch",
      "/people",
      `/c/${client.slug}/restore`,
      `/c/${client.slug}/statements`,
      `/c/${client.slug}/sources`,
    ]) {
      await open(path);
      await seeText(browser, "Not found");
    }
    await open("/portal/restore");
    expect(await (await browser.findElement(By.css("body"))).getText()).not.toContain("Takings");
  });

  it("reads all of it at twice the size and on a telephone, and axe finds nothing", async () => {
    await seemlyToAll(browser, "portal");
    const window = browser.manage().window();
    const before = await window.getRect();
    // 1280 pixels at 200 per cent are 640; a telephone has 390
    for (const width of [640, 500]) {
      await window.setRect({ ...before, width });
      await open("/portal/restore");
      await see(browser, "[aria-label='Add to basket: Rota.txt']");
      const [content, shown] = (await browser.executeScript(
        "return [document.documentElement.scrollWidth, innerWidth]",
      )) as [number, number];
      expect(content).toBeLessThanOrEqual(shown);
      await seemlyToAll(browser, `portal at ${width}`);
    }
    await window.setRect(before);
  });

  it("sets up a second factor, and signs in with it", async () => {
    // another session, of a browser that says much about itself, does not make the page wider than the window
    const other = await console_.call(
      "POST",
      "/sessions",
      { email: "greta@vossel.example", password: PASSWORD },
      null,
      { "user-agent": "A browser with a long name ".repeat(8) },
    );
    expect(other.status).toBe(200);
    await open("/account");
    await seeText(browser, "A browser with a long name");
    expect(
      await browser.executeScript(
        "return [...document.querySelectorAll('*')].filter((one) => /auto|scroll/.test(getComputedStyle(one).overflowX) && one.scrollWidth > one.clientWidth).length",
      ),
    ).toBe(0);
    await type(browser, "Current password", PASSWORD);
    await press(browser, "Set up second factor");
    const seed = (await (await see(browser, "[data-seed]")).getAttribute("data-seed"))!;
    await seemlyToAll(browser, "account");
    await type(browser, "Six-digit code", await generate({ secret: seed }));
    await press(browser, "Turn on second factor");
    await seeText(browser, "Your recovery codes");
    const code = await (await see(browser, "[aria-label='Recovery codes'] li")).getText();
    await press(browser, "I have saved them");
    await seeText(browser, "10 of 10 recovery codes");
    await signOut("Greta Vossel");
    await type(browser, "E-mail address", "greta@vossel.example");
    await type(browser, "Password", PASSWORD);
    await press(browser, "Sign in");
    await type(browser, "Code of your second factor", code);
    await press(browser, "Sign in");
    await seeText(browser, "Hello Greta");
  });

  it("is seen by the technician: in the runs and in the trail", async () => {
    await signOut("Greta Vossel");
    await signInAs(browser, console_.url, "ines@lanternfold.example", console_.password);
    await open("/all/runs");
    await seeText(browser, "Greta Vossel");
    await open("/all/trail");
    await seeText(browser, "shared files with a person");
  });
});

describe("every page", () => {
  it("runs scripts of ours alone", async () => {
    const page = await fetch(`${console_.url}/sign-in`);
    const policy = page.headers.get("content-security-policy")!;
    const nonce = /'nonce-([^']+)'/.exec(policy)![1];
    expect(policy).toContain("frame-ancestors 'none'");
    expect(policy).not.toMatch(/script-src[^;]*unsafe/);
    const html = await page.text();
    const scripts = html.match(/<script[^>]*>/g)!;
    expect(scripts.filter((script) => !script.includes(`nonce="${nonce}"`))).toEqual([]);
    expect((await fetch(`${console_.url}/sign-in`)).headers.get("content-security-policy")).not.toContain(
      nonce,
    );
    // one that somebody smuggled in does nothing
    await open("/all/watch");
    await browser.executeScript(
      "const one = document.createElement('div'); one.innerHTML = '<img src=x onerror=\"window.smuggled = true\">'; document.body.append(one)",
    );
    await browser.sleep(500);
    expect(await browser.executeScript("return window.smuggled ?? null")).toBeNull();
  });

  it("tells an answer of the API to be no page", async () => {
    await until(async () => {
      const { headers } = await fetch(`${console_.url}/api/v1/openapi.json`);
      return headers.get("content-security-policy")?.includes("sandbox") ?? false;
    }, "the API's answers have no policy");
  });
});
