import type { Page } from "playwright-core";
import { afterAll, beforeAll, expect, test } from "vitest";
import { Demo } from "./demo";
import { mainJob } from "./main-job";
import { manyServers, manyWorlds, scrolled } from "./many";

// What the console may cost, measured in a browser by `make bench`; each line is told and held to its budget.
let demo: Demo;
beforeAll(async () => {
  demo = await Demo.start();
});
afterAll(async () => {
  await demo?.stop();
});

function told(what: string, n: number, unit: string, budget: number) {
  console.log(`${what}: ${Math.round(n)} ${unit} (budget ${budget})`);
  expect(n, what).toBeLessThanOrEqual(budget);
}

/** How long a page takes until a heading stands on it, in milliseconds, with nothing kept from before. */
async function usable(page: Page, at: string, line: { latency: number; bytesPerSecond: number } | undefined) {
  await page.goto("about:blank");
  const cdp = await page.context().newCDPSession(page);
  await cdp.send("Network.enable");
  await cdp.send("Network.setCacheDisabled", { cacheDisabled: true });
  await cdp.send("Network.emulateNetworkConditions", {
    offline: false,
    latency: line?.latency ?? 0,
    downloadThroughput: line?.bytesPerSecond ?? -1,
    uploadThroughput: line?.bytesPerSecond ?? -1,
  });
  let bytes = 0;
  cdp.on("Network.loadingFinished", (e) => (bytes += e.encodedDataLength));
  const begun = Date.now();
  await page.goto(at, { waitUntil: "commit" });
  await page.getByRole("heading", { name: "Lately" }).waitFor();
  const took = Date.now() - begun;
  await page.waitForTimeout(1000);
  await cdp.detach();
  return { took, bytes };
}

test("the main job, a person's pauses and all", async () => {
  const { clicks, seconds } = await mainJob(demo);
  told("main job: clicks", clicks, "clicks", 4);
  told("main job: from sign-in to proof", seconds, "s", 8);
});

test("the first page", async () => {
  const { page, context } = await demo.page();
  const near = await usable(page, "/", undefined);
  told("first load, on the wire", near.bytes / 1000, "kB", 250);
  told("first load, until it can be used", near.took, "ms", 1000);
  const far = await usable(page, "/", { latency: 150, bytesPerSecond: 200_000 });
  told("the same at 1.6 Mbit/s and 150 ms", far.took, "ms", 3000);
  await context.close();
});

for (const [what, at, first, fill] of [
  ["2,000 servers", "/servers", "plot-0000", (page: Page) => manyServers(page, 2000)],
  ["2,000 servers by host", "/servers?by=host", "plot-0000", (page: Page) => manyServers(page, 2000)],
  ["5,000 worlds", "/library", "Bed 0", (page: Page) => manyWorlds(page, 5000)],
] as const)
  test(`${what} scroll without a stutter`, async () => {
    const { page, context } = await demo.page();
    await fill(page);
    await page.goto(at);
    await page.getByText(first, { exact: false }).first().waitFor();
    const { took, rows, at: where } = await scrolled(page, 240, 100);
    expect(where).toBeGreaterThan(5000);
    told(`${what}: rows in the page`, rows, "rows", 80);
    told(`${what}: a frame at 6,000 px/s, median`, took[120] ?? 0, "ms", 34);
    told(`${what}: a frame at 6,000 px/s, 95 of 100`, took[228] ?? 0, "ms", 67);
    // The very end, where all of it is known to the page.
    await page.waitForFunction(() => {
      scrollTo({ top: document.documentElement.scrollHeight, behavior: "instant" });
      return document.body.textContent?.includes("Reading more") === false;
    });
    const back = await scrolled(page, 120, -100);
    told(`${what}: a frame at its end, median`, back.took[60] ?? 0, "ms", 67);
    await context.close();
  });
