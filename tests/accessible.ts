import { AxeBuilder } from "@axe-core/webdriverjs";
import type { WebDriver } from "selenium-webdriver";
import { expect } from "vitest";

const WAIT_MS = 15_000;
/** Nothing comes or goes any more; what turns for ever does not count. */
const AT_REST = `return document.getAnimations().every((one) =>
  one.playState !== "running" || one.effect.getComputedTiming().endTime === Infinity)`;

/** What is wrong with a field is said to who hears the page, too: errors that no field refers to. */
const UNBOUND = `return [...document.querySelectorAll(".field-error")]
  .filter((one) => !one.id || !document.querySelector('[aria-describedby~="' + CSS.escape(one.id) + '"]'))
  .map((one) => one.textContent)`;

/** Nothing on this page that axe finds against WCAG 2.2 AA, once it is at rest: what fades in is pale for a moment. */
export async function seemlyToAll(browser: WebDriver, page: string): Promise<void> {
  await browser.wait(() => browser.executeScript<boolean>(AT_REST), WAIT_MS, `${page} does not come to rest`);
  const { violations } = await new AxeBuilder(browser)
    // of this page alone: no script enters the frame in which a message is shown
    .setLegacyMode(true)
    .withTags(["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"])
    .analyze();
  const said = violations.map(
    (one) =>
      `${page}: ${one.id} (${one.impact}) ${one.nodes
        .map((node) => `${node.target} ${node.failureSummary}`)
        .slice(0, 3)
        .join(" | ")}`,
  );
  expect(said).toEqual([]);
  expect(await browser.executeScript<string[]>(UNBOUND), `${page}: errors of no field`).toEqual([]);
}
