import { AxeBuilder } from "@axe-core/webdriverjs";
import type { WebDriver } from "selenium-webdriver";
import { expect } from "vitest";

/** Nothing on this page that axe finds against WCAG 2.2 AA. */
export async function seemlyToAll(browser: WebDriver, page: string): Promise<void> {
  const { violations } = await new AxeBuilder(browser)
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
}
