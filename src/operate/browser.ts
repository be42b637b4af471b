import { mkdtempSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { Builder, type WebDriver } from "selenium-webdriver";
import { Options, ServiceBuilder } from "selenium-webdriver/chrome.js";

/** Debian's Chromium without a window, at the size the views are made for. */
export async function openBrowser(width = 1280, height = 800): Promise<WebDriver> {
  const options = new Options();
  options.setChromeBinaryPath("/usr/bin/chromium");
  options.addArguments(
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-dev-shm-usage",
    "--force-device-scale-factor=1",
    "--lang=en-GB",
    `--window-size=${width},${height}`,
    `--user-data-dir=${mkdtempSync(join(tmpdir(), "deep-keep-browser-"))}`,
  );
  const driver = await new Builder()
    .forBrowser("chrome")
    .setChromeOptions(options)
    .setChromeService(new ServiceBuilder("/usr/bin/chromedriver"))
    .build();
  // the window's frame is not part of what people see
  const inner = (await driver.executeScript("return [innerWidth, innerHeight]")) as [number, number];
  await driver
    .manage()
    .window()
    .setRect({ width: width * 2 - inner[0], height: height * 2 - inner[1] });
  return driver;
}
