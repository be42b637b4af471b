import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { By, type WebDriver } from "selenium-webdriver";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { LibraryServer } from "@/standins/library/server";
import { seemlyToAll } from "../accessible";
import { choose, openBrowser, press, see, seeText, signInAs, type } from "../browser";
import { backUp, makeClient, setClauses, type TestClient } from "../client";
import { freshFolder } from "../depot";
import { TestConsole, until } from "../test-console";

/** A person authorises a library at its own page; a technician restores what somebody overwrote there. */
let console_: TestConsole;
let browser: WebDriver;
let client: TestClient;
let library: LibraryServer;
let folder: string;
let origin: string;
const fileOf = (path: string) => join(folder, "files", path);

interface Source {
  readonly id: string;
  readonly name: string;
}
const sources = async (): Promise<Source[]> =>
  (await console_.ok<{ sources: Source[] }>("GET", `/sources?client=${client.id}`)).sources;

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Thornquay Maritime Museum");
  await setClauses(console_, client, { what: { library: { exclude: ["*.tmp"] } } });
  folder = freshFolder("library");
  for (const path of ["teams/Catalogue/Ships", "people/Ursel Grewe"])
    mkdirSync(fileOf(path), { recursive: true });
  writeFileSync(fileOf("teams/Catalogue/Ships/list.csv"), "1871,Möwe\n1874,Anna\n");
  writeFileSync(fileOf("teams/Catalogue/notes.txt"), "a note");
  writeFileSync(fileOf("people/Ursel Grewe/letter.txt"), "a letter");
  library = new LibraryServer({ folder, tokenSeconds: 40 });
  origin = await library.listen(0);
  writeFileSync(
    join(folder, "accounts.json"),
    JSON.stringify({
      people: [{ name: "ursel", password: "sesame" }],
      clients: [{ id: "deep-keep", secret: "known to both", redirects: [`${console_.url}/authorised`] }],
    }),
  );
  browser = await openBrowser();
});
afterAll(async () => {
  await browser?.quit();
  await library?.close();
  await console_?.stop();
});

/** At the library's page. */
async function agree(password: string): Promise<void> {
  await seeText(browser, "asks to read and change the files");
  await browser.findElement(By.name("name")).sendKeys("ursel");
  await browser.findElement(By.name("password")).sendKeys(password);
  await browser.findElement(By.css("[value=allow]")).click();
}

describe("a library", () => {
  it("is authorised at its own page, and connected on the way back", async () => {
    await signInAs(browser, console_.url, "ines@lanternfold.example", console_.password);
    await browser.get(`${console_.url}/c/${client.slug}/sources?sheet=connect`);
    await browser.wait(
      async () =>
        (await browser.findElements(By.xpath("//label[normalize-space(.)='Sign in with']"))).length > 0 ||
        (await browser.executeScript(
          "[...document.querySelectorAll('label')].find((one) => /File library/.test(one.textContent))?.click()",
        )),
      60_000,
      "the form of a library does not open",
    );
    await choose(browser, "Sign in with", "Grant of a person (OAuth 2.0)");
    await seemlyToAll(browser, "the form of a library");
    await type(browser, "Name, as people call it", "Museum library");
    await type(browser, "Address of the server", `${origin}/dav/`);
    await type(browser, "Folder of team libraries (optional)", "teams");
    await type(browser, "Folder of personal libraries (optional)", "people");
    await type(browser, "Address of the authorization server", `${console_.url}`);
    await type(browser, "Client id", "deep-keep");
    await type(browser, "Client secret (optional)", "known to both");
    await type(browser, "Region of the data", "north harbour");
    await press(browser, "Authorise…");
    await seeText(browser, "publishes no metadata of an authorization server");
    await type(browser, "Address of the authorization server", origin);
    await press(browser, "Authorise…");
    await agree("wrong");
    await seeText(browser, "The name or the password is wrong.");
    await browser.findElement(By.name("name")).sendKeys("ursel");
    await browser.findElement(By.name("password")).sendKeys("sesame");
    await browser.findElement(By.css("[value=allow]")).click();
    await seeText(browser, "Catalogue (team)");
    await seeText(browser, "Ursel Grewe (personal)");
    expect(await browser.getCurrentUrl()).toBe(`${console_.url}/c/${client.slug}/sources`);
  });

  it("whose list was overwritten gets it back, in the place of the wrong one", async () => {
    const source = (await sources()).find(({ name }) => name === "Catalogue (team)")!;
    await console_.ok("PATCH", `/sources/${source.id}`, { policyId: client.policyId });
    expect((await backUp(console_, source.id)).outcome).toBe("clean");
    writeFileSync(fileOf("teams/Catalogue/Ships/list.csv"), "");
    expect((await backUp(console_, source.id)).outcome).toBe("clean");
    const { points } = await console_.ok<{ points: { id: string }[] }>(
      "GET",
      `/sources/${source.id}/recovery-points`,
    );
    expect(points).toHaveLength(2);
    await browser.get(
      `${console_.url}/c/${client.slug}/main-site/catalogue-team/restore?point=${points.at(-1)!.id}&path=${encodeURIComponent("/Ships")}`,
    );
    await (await see(browser, "[aria-label='Add to basket: list.csv']")).click();
    await seeText(browser, "Existing files are kept.");
    await press(browser, "Replace");
    await seeText(browser, "Existing files with the same name are replaced.");
    await seemlyToAll(browser, "where files of a library are restored to");
    await (await see(browser, "[data-restore]:not([disabled])")).click();
    await until(
      async () => readFileSync(fileOf("teams/Catalogue/Ships/list.csv"), "utf8") === "1871,Möwe\n1874,Anna\n",
      "the list is not restored",
      30_000,
    );
    expect(readFileSync(fileOf("teams/Catalogue/notes.txt"), "utf8")).toBe("a note");
  });

  it("whose grant has ended is one cause in Watch, and is authorised again from there", async () => {
    library.accounts.endGrants();
    const source = (await sources()).find(({ name }) => name === "Catalogue (team)")!;
    expect(await backUp(console_, source.id)).toMatchObject({
      outcome: "failed",
      code: "source.grant-ended",
    });
    await browser.get(`${console_.url}/c/${client.slug}/watch`);
    await (await see(browser, "[data-row]")).click();
    await press(browser, "Authorise again");
    await press(browser, "Authorise again…");
    await agree("sesame");
    await seeText(browser, "Catalogue (team)");
    await until(
      async () => (await backUp(console_, source.id)).outcome === "clean",
      "the run fails still",
      30_000,
    );
  });
});
