import { setTimeout as pause } from "node:timers/promises";
import pg from "pg";
import { By, Key, until, type WebDriver } from "selenium-webdriver";
import { openBrowser } from "../browser";
import { inConsole, OWNER } from "./bench-console";
import { type Figure, figure, percentile, say } from "./ground";
import { fillConsole } from "./large-console";

const SOURCES = Number(process.env.DEEPKEEP_BENCH_KEYSTROKE_SOURCES ?? 2000);
/** The first ones do not count: a web runs for days, and a technician types more than one figure. */
const WARMING = 20;
const STROKES = 40;
const LIMIT_MS = 100;

/**
 * From a key that goes down in a policy's field to the consequences as they are drawn anew, for a policy of many sources:
 * in Chromium, over HTTP, with everything that lies between.
 */
export const benchKeystroke = (): Promise<Figure[]> =>
  inConsole({ fsync: "off" }, async (bench) => {
    const owner = new pg.Client({ connectionString: bench.owner });
    await owner.connect();
    const size = { clients: 1, sources: SOURCES, runs: SOURCES * 30, points: SOURCES * 30, large: 1 };
    await fillConsole(bench.services, owner, size);
    const { rows } = await owner.query("select id from policies limit 1");
    await owner.end();
    await bench.createOwner();
    const url = await bench.web();
    let browser: WebDriver | null = null;
    try {
      for (let tries = 0; !(await fetch(`${url}/readyz`).catch(() => null))?.ok; tries += 1) {
        if (tries > 300) throw new Error("the web does not answer");
        await pause(200);
      }
      browser = await openBrowser();
      await browser.get(`${url}/sign-in`);
      const [email, password] = await browser.findElements(By.css("form input"));
      await email!.sendKeys(OWNER.email);
      await password!.sendKeys(OWNER.password, Key.ENTER);
      await browser.wait(until.urlContains("/all/"), 20_000);
      await browser.get(`${url}/c/client-1/policies?sel=${rows[0].id}`);
      const times = await strokes(browser);
      say(
        `${times.length} keys in a policy of ${SOURCES.toLocaleString("en-GB")} sources: median ${percentile(times, 0.5).toFixed(0)} ms to the new consequences`,
      );
      return [
        figure(
          "a keystroke to its consequences, 95th percentile",
          "ms",
          percentile(times, 0.95),
          "its limit",
          LIMIT_MS,
          1,
        ),
      ];
    } finally {
      await browser?.quit();
    }
  });

/** Types into “how many days”, and hears in the page itself when what follows was drawn. Milliseconds of each key. */
async function strokes(browser: WebDriver): Promise<number[]> {
  const clause = await browser.wait(
    until.elementLocated(By.xpath("//button[contains(normalize-space(.), 'How long')]")),
    20_000,
  );
  await clause.click();
  const label = await browser.wait(
    until.elementLocated(By.xpath("//label[starts-with(normalize-space(.), 'Days')]")),
    20_000,
  );
  const field = await browser.findElement(By.id((await label.getAttribute("for"))!));
  await browser.wait(
    until.elementLocated(
      By.xpath("//h3[contains(normalize-space(.), 'space') or contains(normalize-space(.), 'Space')]"),
    ),
    20_000,
  );
  await browser.executeScript(`
    window.drawn = [];
    let pressed = null;
    const text = () => [...document.querySelectorAll("[data-follows]")].map((one) => one.textContent).join();
    let before = text();
    addEventListener("keydown", () => { pressed = performance.now(); before = text(); }, true);
    new MutationObserver(() => {
      if (pressed === null || text() === before) return;
      const began = pressed;
      pressed = null;
      requestAnimationFrame(() => drawn.push(performance.now() - began));
    }).observe(document.body, { subtree: true, childList: true, characterData: true });
  `);
  const drawn = async () => ((await browser.executeScript("return window.drawn")) as number[]).length;
  const keys = Array.from({ length: WARMING + STROKES }, (_, i) =>
    i % 2 === 0 ? String(1 + (i % 8)) : Key.BACK_SPACE,
  );
  let seen = 0;
  for (const key of keys) {
    await field.sendKeys(key);
    await browser.wait(async () => (await drawn()) > seen, 10_000, "what follows is not drawn anew");
    seen = await drawn();
    await pause(150);
  }
  return ((await browser.executeScript("return window.drawn")) as number[]).slice(WARMING);
}
