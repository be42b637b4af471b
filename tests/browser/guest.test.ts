import { randomBytes } from "node:crypto";
import { By, type WebDriver } from "selenium-webdriver";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { seemlyToAll } from "../accessible";
import { choose, openBrowser, press, see, seeText, signInAs, type } from "../browser";
import { backUp, makeClient, setClauses, type TestClient } from "../client";
import { bootSector, Libvirt, whyNoLibvirt } from "../libvirt";
import { TestConsole, until } from "../test-console";

/** A technician connects a libvirt host, and restores a guest whose disk was destroyed. */
const MIB = 1024 * 1024;
let console_: TestConsole;
let browser: WebDriver;
let client: TestClient;
let host: Libvirt;
const missing = whyNoLibvirt();
if (missing) console.warn(`skipped: guests of libvirt in the browser; ${missing}`);

describe.skipIf(missing)("a guest of a libvirt host", () => {
  beforeAll(async () => {
    // first: the console of a test takes over the permission to use hypervisors of this machine
    host = await Libvirt.start();
    console_ = await TestConsole.start();
    client = await makeClient(console_, "Vossel & Daughters Bakery");
    await setClauses(console_, client, { what: { guest: {} } });
    const image = host.image("till-1.qcow2", "qcow2", "32M", [
      [0, bootSector()],
      [8 * MIB, randomBytes(MIB)],
    ]);
    host.define("till-1", [{ path: image, format: "qcow2" }]);
    browser = await openBrowser();
  }, 90_000);
  afterAll(async () => {
    await browser?.quit();
    await console_?.stop();
    host?.stop();
  });

  it("is connected by a form that says what is wrong at its field", async () => {
    await signInAs(browser, console_.url, "ines@lanternfold.example", console_.password);
    await browser.get(`${console_.url}/c/${client.slug}/sources?sheet=connect`);
    await browser.wait(
      async () =>
        (await browser.findElements(By.xpath("//label[normalize-space(.)='Transfer of disks']"))).length >
          0 ||
        // the page may not listen yet when it is clicked first
        (await browser.executeScript(
          "[...document.querySelectorAll('label')].find((one) => /Hypervisor host/.test(one.textContent))?.click()",
        )),
      60_000,
      "the form of a hypervisor host does not open",
    );
    await choose(browser, "Transfer of disks", "Not encrypted");
    await seemlyToAll(browser, "the form of a hypervisor host");
    await type(browser, "Name, as people call it", "Bakery host");
    await type(browser, "Address of the host", "qemu+unix:///session?socket=/nowhere/libvirt-sock");
    await type(browser, "Region of the data", "north harbour");
    await press(browser, "Test and connect");
    await seeText(browser, "Find the host:");
    await type(browser, "Address of the host", host.address);
    await press(browser, "Test and connect");
    await seeText(browser, "till-1 on ");
  });

  it("is restored as a new guest that comes up", async () => {
    const { sources } = await console_.ok<{ sources: { id: string; name: string; slug: string }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    );
    const source = sources.find((one) => one.name.startsWith("till-1"))!;
    await console_.ok("PATCH", `/sources/${source.id}`, { policyId: client.policyId });
    expect((await backUp(console_, source.id)).outcome).toBe("clean");
    host.write(`${host.disks()}/till-1.qcow2`, "qcow2", 0, Buffer.alloc(MIB));
    const slug = source.name.toLowerCase().replaceAll(/[^a-z0-9]+/g, "-");
    await browser.get(`${console_.url}/c/${client.slug}/main-site/${slug}/restore`);
    await (await see(browser, "[data-whole]")).click();
    await seeText(browser, "as till-1-restored, powered off");
    await seemlyToAll(browser, "a guest in Restore");
    await (await see(browser, "[data-restore]:not([disabled])")).click();
    await until(
      async () => host.tried("domstate", "till-1-restored") === "shut off",
      "the guest is not restored",
    );
    host.virsh("start", "till-1-restored");
    await until(async () => (await host.writes("till-1-restored")) > 3, "the guest does not come up", 60_000);
  }, 120_000);

  it("is started from the depot, and runs while its data is copied", async () => {
    await browser.navigate().refresh();
    await (await see(browser, "[data-whole]")).click();
    await type(browser, "Name of the new guest", "till-1-now");
    await (await see(browser, "[data-start]")).click();
    await seeText(browser, "as till-1-now, running from the depot until its data is copied");
    await (await see(browser, "[data-restore]:not([disabled])")).click();
    await until(
      async () => host.tried("domstate", "till-1-now") === "running",
      "the guest does not run",
      60_000,
    );
    await until(
      async () => !host.virsh("dumpxml", "till-1-now", "--inactive").includes("nbd"),
      "the guest still needs the depot",
      60_000,
    );
  }, 180_000);
});
