import { By, until, type WebDriver, type WebElement } from "selenium-webdriver";

export { openBrowser } from "@/operate/browser";

const WAIT_MS = 15_000;

const DRAWN_ANEW_MOST = 5;
/** Finds and does something; once more where the page drew it anew in between, because of what the console was told. */
export async function steadily<T>(work: () => Promise<T>): Promise<T> {
  for (let tries = 1; ; tries += 1) {
    try {
      return await work();
    } catch (error) {
      if ((error as Error).name !== "StaleElementReferenceError" || tries === DRAWN_ANEW_MOST) throw error;
    }
  }
}

/** The element that carries a text, once it is there and to be seen. */
export const seeText = (driver: WebDriver, text: string, within = "body"): Promise<WebElement> =>
  steadily(() => findText(driver, text, within));
async function findText(driver: WebDriver, text: string, within: string): Promise<WebElement> {
  const quoted = text.includes('"') ? `'${text}'` : `"${text}"`;
  const place = within === "body" ? "//body" : `//*[@${within}]`;
  const found = await driver.wait(
    until.elementLocated(
      By.xpath(
        `${place}//*[contains(normalize-space(.), ${quoted})][not(self::script)][not(local-name()='title')][not(descendant::*[contains(normalize-space(.), ${quoted})])]`,
      ),
    ),
    WAIT_MS,
    `“${text}” does not appear`,
  );
  await driver.wait(until.elementIsVisible(found), WAIT_MS);
  return found;
}

export const see = (driver: WebDriver, css: string): Promise<WebElement> =>
  driver.wait(until.elementLocated(By.css(css)), WAIT_MS, `${css} does not appear`);

/** A field by its label. */
export async function field(driver: WebDriver, label: string): Promise<WebElement> {
  const of = await driver.wait(
    until.elementLocated(
      By.xpath(`//label[normalize-space(.)="${label}" or starts-with(normalize-space(.), "${label}")]`),
    ),
    WAIT_MS,
    `there is no field “${label}”`,
  );
  return driver.findElement(By.id((await of.getAttribute("for"))!));
}

export async function type(driver: WebDriver, label: string, text: string): Promise<void> {
  const input = await field(driver, label);
  await driver.executeScript("arguments[0].scrollIntoView({block: 'center'})", input);
  await input.clear();
  await input.sendKeys(text);
}

/** A button or link by what is on it. */
export const press = (driver: WebDriver, text: string): Promise<void> =>
  steadily(() => findAndPress(driver, text));
async function findAndPress(driver: WebDriver, text: string): Promise<void> {
  const button = await driver.wait(
    until.elementLocated(
      By.xpath(`//*[self::button or self::a][normalize-space(.)="${text}" or @aria-label="${text}"]`),
    ),
    WAIT_MS,
    `there is nothing to press called “${text}”`,
  );
  await driver.executeScript("arguments[0].scrollIntoView({block: 'center'})", button);
  await driver.wait(until.elementIsEnabled(button), WAIT_MS);
  await button.click();
}

export async function choose(driver: WebDriver, label: string, option: string): Promise<void> {
  const select = await field(driver, label);
  await driver.executeScript("arguments[0].scrollIntoView({block: 'center'})", select);
  await select.findElement(By.xpath(`.//option[normalize-space(.)="${option}"]`)).click();
}

export async function signInAs(
  driver: WebDriver,
  url: string,
  email: string,
  password: string,
  code?: string,
): Promise<void> {
  await driver.get(`${url}/sign-in`);
  await type(driver, "E-mail address", email);
  await type(driver, "Password", password);
  await press(driver, "Sign in");
  if (code) {
    await type(driver, "Code of your second factor", code);
    await press(driver, "Sign in");
  }
  await driver.wait(
    async () => !(await driver.getCurrentUrl()).includes("/sign-in"),
    WAIT_MS,
    "signing in does not lead on",
  );
}

/** What the key sheet shows on paper: its groups, when nothing else of the page is printed and the code can be seen. */
export async function printedGroups(driver: WebDriver): Promise<string[]> {
  const chrome = driver as unknown as { sendDevToolsCommand(name: string, values: object): Promise<void> };
  await chrome.sendDevToolsCommand("Emulation.setEmulatedMedia", { media: "print" });
  try {
    return await driver.executeScript(`
      const shown = [...document.body.children].filter((one) => getComputedStyle(one).display !== "none");
      const code = document.querySelector(".key-paper img");
      if (shown.length !== 1 || !code.naturalWidth) return [];
      return [...shown[0].querySelectorAll("li")].map((one) => one.lastChild.textContent.trim());`);
  } finally {
    await chrome.sendDevToolsCommand("Emulation.setEmulatedMedia", { media: "" });
  }
}
