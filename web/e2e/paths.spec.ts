import { AxeBuilder } from "@axe-core/playwright";
import { execFileSync } from "node:child_process";
import { join } from "node:path";
import type { Page } from "playwright-core";
import { afterAll, beforeAll, expect, test } from "vitest";
import { Demo, drop } from "./demo";

// The ways through the console as a whole: by mouse, by keyboard alone, by touch, at every width.
let demo: Demo;
beforeAll(async () => {
  demo = await Demo.start();
  const run = (...args: string[]) =>
    execFileSync(join(import.meta.dirname, "../../bin/reshard"), args, {
      env: { ...process.env, RESHARD_CONFIG: join(demo.data, "client.json") },
    });
  run("send", join(demo.data, "samples", "orchard.zip"));
});
afterAll(async () => {
  await demo?.stop();
});

async function accessible(page: Page, where: string) {
  const result = await new AxeBuilder({ page: page as never }).analyze();
  expect(
    result.violations.map((v) => `${v.id}: ${v.nodes.map((n) => n.html).join(" ")}`),
    where,
  ).toEqual([]);
}

/** How long a person looks before each thing that they do, in milliseconds. */
const decision = 300;

test("from sign-in to proof in four clicks", async () => {
  const context = await demo.browser.newContext({
    baseURL: demo.address,
    viewport: { width: 1280, height: 800 },
  });
  const page = await context.newPage();
  let clicks = 0;
  const click = async (what: ReturnType<Page["getByRole"]>) => {
    await what.waitFor();
    await page.waitForTimeout(decision);
    await what.click();
    clicks++;
  };
  await page.goto("/");
  const begun = Date.now();
  await page.getByLabel("Name").fill(demo.user);
  await page.getByLabel("Password").fill(demo.password);
  await click(page.getByRole("button", { name: "Sign in" }));
  await page.getByText("Drop a world's archive here,").waitFor();
  await page.waitForTimeout(decision);
  await drop(page, join(demo.data, "samples", "fen-garden.zip"));
  await page.getByRole("heading", { name: "Bring “Fen Garden” over" }).waitFor();
  await page.getByText("fits, settings change with it").first().waitFor();
  await click(page.getByRole("link", { name: /north-plot/ }));
  // The plan is seen before it is carried out, and so is what stands there now and then.
  await page.getByRole("figure", { name: "Now and then" }).waitFor();
  await page.getByText("Players are locked out from here", { exact: true }).waitFor();
  await click(page.getByRole("button", { name: "Carry it out on north-plot" }));
  await page.getByText("the console answers seed: -4713582209").waitFor();
  const took = ((Date.now() - begun) / 1000).toFixed(1);
  console.log(`main job: ${clicks} clicks, ${took} s`);
  await page.goto("/servers/north-plot");
  await page.getByRole("heading", { name: "What happened here" }).waitFor();
  await page.getByRole("listitem").filter({ hasText: "Put “Fen Garden”" }).getByText("done").waitFor();
  expect(clicks).toBeLessThanOrEqual(4);
  await context.close();
});

test("what is seen first is small", async () => {
  const { page, context } = await demo.page();
  await page.goto("about:blank"); // what the page before was still fetching is none of it
  const cdp = await context.newCDPSession(page);
  await cdp.send("Network.enable");
  await cdp.send("Network.setCacheDisabled", { cacheDisabled: true });
  let bytes = 0;
  const names = new Map<string, string>();
  const parts: [number, string][] = [];
  cdp.on("Network.requestWillBeSent", (e) => names.set(e.requestId, e.request.url));
  cdp.on("Network.loadingFinished", (e) => {
    bytes += e.encodedDataLength;
    parts.push([e.encodedDataLength, names.get(e.requestId)?.replace(/^.*\//, "") ?? "?"]);
  });
  await page.mouse.move(5, 790); // what is pointed at is fetched before it is gone to
  await page.goto("/");
  await page.getByRole("heading", { name: "Lately" }).waitFor();
  await page.waitForTimeout(500);
  console.log(`first load: ${Math.round(bytes / 1000)} kB`);
  expect(bytes).toBeGreaterThan(50_000);
  expect(bytes, JSON.stringify(parts.toSorted(([a], [b]) => b - a))).toBeLessThan(250_000);
  await context.close();
});

test("by keyboard alone, over the palette", async () => {
  const { page, context, errors } = await demo.page();
  await page.keyboard.press("Control+k");
  await page.getByRole("dialog").getByText("Bring a world over").waitFor();
  await accessible(page, "palette");
  await page.keyboard.type("put orchard terraces");
  await page.getByRole("menuitem").getByText("onto terraces").waitFor();
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("Enter");
  await page.getByRole("heading", { name: "Put orchard onto terraces" }).waitFor();
  await page.getByText("Answer", { exact: false }).first().waitFor({ state: "attached" });
  // The question is answered, and the plan carried out, without a mouse.
  const tabTo = async (reached: () => Promise<boolean>) => {
    for (let i = 0; i < 60; i++) {
      if (await reached()) return;
      await page.keyboard.press("Tab");
    }
    throw new Error("the keyboard does not reach it");
  };
  const focused = (what: string) => page.evaluate((w) => document.activeElement?.matches(w) ?? false, what);
  await tabTo(() => focused('tbody[data-concern] [role="radiogroup"] input'));
  await page.keyboard.press("Space");
  const go = page.getByRole("button", { name: "Carry it out on terraces" });
  await page.waitForFunction(
    () => [...document.querySelectorAll("button")].some((b) => b.textContent === "Carry it out on terraces"),
    undefined,
  );
  expect(await go.count()).toBe(1);
  await page.keyboard.press("Control+k");
  await page.keyboard.press("Escape");
  await page.getByRole("dialog").waitFor({ state: "detached" });
  expect(errors).toEqual([]);
  await context.close();
});

test("several servers at once, a view that is kept, and one that the address knows", async () => {
  const { page, context } = await demo.page();
  await page.getByLabel("Search").fill("quarrymoss");
  await page.getByRole("button", { name: "Together by" }).click();
  await page.getByRole("option", { name: "host" }).click();
  await page.getByRole("region", { name: "moor", exact: true }).getByText("fen-plot").waitFor();
  expect(page.url()).toContain("by=host");
  await page.getByRole("button", { name: "Keep this view …" }).click();
  await page.getByLabel("Call it").fill("plots");
  await page.getByRole("button", { name: "Keep it" }).click();
  await page.reload();
  await page.getByRole("link", { name: "plots" }).waitFor();
  await page.getByRole("region", { name: "local" }).getByRole("button", { name: "All of these" }).click();
  await page.getByText("2 servers chosen").waitFor();
  await page.getByRole("button", { name: "Check", exact: true }).click();
  await page.getByText("2 servers chosen: all fit").waitFor();
  await accessible(page, "fleet");
  await context.close();
});

const pages = [
  "/",
  "/servers",
  "/servers/north-plot",
  "/bring",
  "/bring?world=orchard",
  "/change?kind=put&world=orchard&server=north-plot",
  "/change?kind=reset&server=north-plot",
  "/library",
  "/library/orchard",
  "/changeovers",
  "/backups",
  "/games",
  "/hosts",
  "/users",
  "/vault",
  "/add-server",
];

test("no page scrolls sideways, at any width", { timeout: 240_000 }, async () => {
  const { page, context } = await demo.page();
  for (const at of pages) {
    await page.goto(at);
    await page.locator("h1").first().waitFor();
    await page.waitForTimeout(500);
    for (const width of [320, 390, 820, 1280]) {
      await page.setViewportSize({ width, height: 800 });
      const over = await page.evaluate(() => document.documentElement.scrollWidth - innerWidth);
      expect(over, `${at} at ${width}`).toBeLessThanOrEqual(0);
    }
  }
  await context.close();
});

test(
  "every page is sound for a screen reader, on a phone and in the dark",
  { timeout: 240_000 },
  async () => {
    for (const [width, colorScheme, forcedColors] of [
      [390, "light", "none"],
      [1280, "dark", "none"],
      [820, "light", "active"],
    ] as const) {
      const { page, context } = await demo.page({
        viewport: { width, height: 800 },
        colorScheme,
        forcedColors,
        hasTouch: width === 390,
      });
      for (const at of pages) {
        await page.goto(at);
        await page.locator("h1").first().waitFor();
        await page.waitForTimeout(400);
        await accessible(page, `${at} at ${width}, ${colorScheme}, ${forcedColors}`);
      }
      await context.close();
    }
  },
);
