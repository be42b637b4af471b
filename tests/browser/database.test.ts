import { By, type WebDriver } from "selenium-webdriver";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { seemlyToAll } from "../accessible";
import { choose, openBrowser, press, see, seeText, signInAs, type } from "../browser";
import { backUp, makeClient, setClauses, type TestClient } from "../client";
import { ClientDatabases } from "../database-server";
import { TestConsole, until } from "../test-console";

/** The browser as Chromium has it. */
interface ChromiumDriver {
  sendDevToolsCommand(command: string, given: object): Promise<void>;
  sendAndGetDevToolsCommand(command: string, given: object): Promise<{ identifier: string }>;
}

/** A technician connects a database server, looks into a database, and restores it after an accident. */
let console_: TestConsole;
let browser: WebDriver;
let client: TestClient;
let server: ClientDatabases;

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Vossel & Daughters Bakery");
  await setClauses(console_, client, { what: { database: {} } });
  server = await ClientDatabases.start();
  await server.query("postgres", "create role keeper login superuser password 'sesame'");
  await server.query("postgres", "create database orders");
  await server.query("orders", "create table loaves (id int primary key, name text)");
  await server.query("orders", "insert into loaves select n, 'loaf ' || n from generate_series(1, 60) n");
  browser = await openBrowser();
});
afterAll(async () => {
  await browser?.quit();
  await server?.stop();
  await console_?.stop();
});

describe("a database", () => {
  it("is connected by a form that says what is wrong at its field", async () => {
    await signInAs(browser, console_.url, "ines@lanternfold.example", console_.password);
    await browser.get(`${console_.url}/c/${client.slug}/sources?sheet=connect`);
    await browser.wait(
      async () =>
        (await browser.findElements(By.xpath("//label[normalize-space(.)='Encryption']"))).length > 0 ||
        // the page may not listen yet when it is clicked first
        (await browser.executeScript(
          "[...document.querySelectorAll('label')].find((one) => /Database server/.test(one.textContent))?.click()",
        )),
      60_000,
      "the form of a database server does not open",
    );
    await choose(browser, "Encryption", "Not encrypted");
    await seemlyToAll(browser, "the form of a database server");
    await type(browser, "Name, as people call it", "Bakery databases");
    await type(browser, "Address of the server", server.address());
    await type(browser, "User", "keeper");
    await type(browser, "Password", "wrong");
    await type(browser, "Region of the data", "north harbour");
    await press(browser, "Test and connect");
    await seeText(browser, "Sign in:");
    await type(browser, "Password", "sesame");
    await press(browser, "Test and connect");
    await seeText(browser, "orders on 127.0.0.1");
  });

  it("is chosen by a click that comes before the page listens", async () => {
    const { identifier } = await (browser as unknown as ChromiumDriver).sendAndGetDevToolsCommand(
      "Page.addScriptToEvaluateOnNewDocument",
      {
        // as soon as the line is there, and once
        source: `new MutationObserver((_, watch) => {
          const line = [...document.querySelectorAll("label")].find((one) => /Database server/.test(one.textContent));
          if (line) { watch.disconnect(); line.click(); }
        }).observe(document, { childList: true, subtree: true });`,
      },
    );
    await browser.get(`${console_.url}/c/${client.slug}/sources?sheet=connect`);
    await seeText(browser, "Database to sign in to");
    await (browser as unknown as ChromiumDriver).sendDevToolsCommand(
      "Page.removeScriptToEvaluateOnNewDocument",
      {
        identifier,
      },
    );
  });

  it("is looked into, and restored as a new database", async () => {
    const { sources } = await console_.ok<{ sources: { id: string; name: string }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    );
    const source = sources.find((one) => one.name.startsWith("orders"))!;
    await console_.ok("PATCH", `/sources/${source.id}`, { policyId: client.policyId });
    expect((await backUp(console_, source.id)).outcome).toBe("clean");
    await server.query("orders", "drop table loaves");
    await browser.get(`${console_.url}/c/${client.slug}/main-site/orders-on-127-0-0-1/restore`);
    await (await see(browser, "[data-table='public.loaves']")).click();
    await seeText(browser, "loaf 50");
    await seeText(browser, "Only the first 50 rows are shown.");
    await press(browser, "Definition");
    await seeText(browser, "CREATE TABLE public.loaves");
    await (await browser.findElement(By.xpath("//label[contains(., 'Database orders')]"))).click();
    await seeText(browser, "as orders_restored. Nothing that is there changes.");
    await seemlyToAll(browser, "a database in Restore");
    await (await see(browser, "[data-restore]:not([disabled])")).click();
    await until(
      async () =>
        (await server.query("orders_restored", "select * from loaves").catch(() => [])).length === 60,
      "the database is not restored",
    );
  });
});
