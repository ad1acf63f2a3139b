import { execFileSync } from "node:child_process";
import { cpSync, readFileSync, writeFileSync } from "node:fs";
import { createServer, type AddressInfo } from "node:net";
import { join } from "node:path";
import { afterAll, beforeAll, expect, test } from "vitest";
import { accessible, Demo } from "./demo";
import { mainJob, Person, tabTo } from "./main-job";

// The ways through the console as a whole: by mouse, by keyboard alone, by touch, at every width.
let demo: Demo;
const run = (...args: string[]) =>
  execFileSync(join(import.meta.dirname, "../../bin/reshard"), args, {
    env: { ...process.env, RESHARD_CONFIG: join(demo.data, "client.json") },
  });
beforeAll(async () => {
  demo = await Demo.start();
  run("send", join(demo.data, "samples", "orchard.zip"));
});
afterAll(async () => {
  await demo?.stop();
});

/** A port that nobody listens at. */
function freePort(): Promise<number> {
  return new Promise((resolve) => {
    const server = createServer().listen(0, "127.0.0.1", () => {
      const { port } = server.address() as AddressInfo;
      server.close(() => resolve(port));
    });
  });
}

// Each hand, on a screen of each size, in each look; the world goes onto the server and back again.
for (const [hand, width, colorScheme, forcedColors] of [
  ["mouse", 1280, "light", "none"],
  ["mouse", 820, "dark", "none"],
  ["keyboard", 1280, "dark", "active"],
  ["keyboard", 390, "light", "none"],
  ["touch", 390, "light", "none"],
  ["touch", 820, "dark", "none"],
] as const)
  test(`from sign-in to proof by ${hand}, ${width} px, ${colorScheme}, forced colours ${forcedColors}`, async () => {
    const { clicks, seconds, changeover } = await mainJob(demo, {
      hand,
      viewport: { width, height: 800 },
      colorScheme,
      forcedColors,
    });
    console.log(`main job by ${hand}: ${clicks} clicks, ${seconds.toFixed(1)} s`);
    expect(clicks).toBeLessThanOrEqual(4);
    run("undo", changeover, "--yes");
  });

test("onto a server of a host that nobody knows yet, in six clicks more", async () => {
  const { page, context, errors } = await demo.page();
  const plot = join(demo.data, "moor", "new-plot");
  cpSync(join(demo.data, "moor", "fen-plot"), plot, {
    recursive: true,
    filter: (from) => !/\.reshard|\.lock/.test(from), // what the running one is operated with
  });
  const known = JSON.parse(run("--json", "servers", "show", "fen-plot").toString()) as {
    server: { command: string[] };
  };
  const hosts = JSON.parse(run("--json", "hosts").toString()) as {
    name: string;
    user: string;
    address: string;
    port: number;
  }[];
  const moor = hosts.find((h) => h.name === "moor");
  const settings = join(plot, "quarry.properties");
  writeFileSync(settings, readFileSync(settings, "utf8").replace(/port=\d+/, `port=${await freePort()}`));
  await page.goto("/bring?world=fen-garden");
  await page.getByText("fits, settings change with it").first().waitFor();
  const person = new Person(page);
  await person.click(page.getByRole("link", { name: /A server that is not here yet/ }));
  await accessible(page, "a server that is not here yet");
  await person.click(page.getByText("another machine …"));
  await person.type(page.getByLabel("Name of the host"), "far-moor");
  await person.type(page.getByLabel("Address"), `sftp://${moor?.user}@${moor?.address}:${moor?.port}`);
  await person.type(
    page.getByLabel("Private key"),
    readFileSync(join(demo.data, "moor-keys", "moor", "client_key"), "utf8"),
  );
  await person.click(page.getByRole("button", { name: "Sign in and check" }));
  await person.click(page.getByRole("button", { name: "It is the same: accept it" }));
  await person.click(page.getByText("Quarrymoss, plain"));
  await person.type(page.getByLabel("Name of the server"), "new-plot");
  await person.type(page.getByLabel("Folder"), plot);
  await person.type(page.getByLabel("Start command"), known.server.command.join(" "));
  await person.click(page.getByRole("button", { name: "Add the server" }));
  await page.getByRole("figure", { name: "Now and then" }).waitFor();
  expect(person.clicks).toBeLessThanOrEqual(6);
  await person.click(page.getByRole("button", { name: "Carry it out on new-plot" }));
  await page.locator('[data-mark="done"]').first().waitFor();
  expect(person.clicks).toBeLessThanOrEqual(7); // one more, where a server that is known takes two
  expect(errors.filter((e) => !/4\d\d/.test(e))).toEqual([]); // the key that is asked about
  await context.close();
});

test("a plan that somebody else has overtaken says so, and is made anew", async () => {
  const { page, context, errors } = await demo.page();
  await page.goto("/change?kind=put&world=fen-garden&server=north-plot");
  const go = page.getByRole("button", { name: "Carry it out on north-plot" });
  await page.getByText("Players are locked out from here", { exact: true }).waitFor();
  expect(await go.isDisabled()).toBe(false);
  run("rename", "north-plot", "spring", "--yes");
  const told = page.getByRole("alert").filter({ hasText: "this plan was made before" });
  await told.getByText(`${demo.user} has carried out`).waitFor();
  expect(await go.isDisabled()).toBe(true);
  await accessible(page, "overtaken");
  await page.getByRole("button", { name: "Make the plan anew" }).click();
  await told.waitFor({ state: "detached" });
  await page.waitForFunction(
    (name) => [...document.querySelectorAll("button")].some((b) => b.textContent === name && !b.disabled),
    "Carry it out on north-plot",
  );
  const [last] = JSON.parse(run("--json", "changeovers").toString()) as { id: number }[];
  run("undo", String(last?.id), "--yes");
  expect(errors).toEqual([]);
  await context.close();
});

test("a world is dragged onto a server, with a mouse and with keys", async () => {
  const { page, context, errors } = await demo.page();
  await page.goto("/library");
  const card = await page.getByRole("row", { name: "Orchard" }).boundingBox();
  if (!card) throw new Error("no card");
  await page.mouse.move(card.x + 60, card.y + 60);
  await page.mouse.down();
  await page.mouse.move(card.x + 100, card.y + 120, { steps: 6 });
  const shelf = page.getByRole("region", { name: "Onto which server?" });
  const place = await shelf.getByText("terraces").boundingBox();
  if (!place) throw new Error("no shelf");
  await page.mouse.move(place.x + 10, place.y + 5, { steps: 5 });
  await page.mouse.up();
  await page.getByRole("heading", { name: "Put orchard onto terraces" }).waitFor();
  await page.goBack();
  // With keys: Enter on the handle takes it up, Tab goes from server to server, Enter lets it go.
  await page.getByRole("row", { name: "Orchard" }).focus();
  await tabTo(page.getByRole("button", { name: /^Drag Orchard/ }));
  await page.keyboard.press("Enter");
  await shelf.waitFor();
  const onto = shelf.getByRole("button", { name: /onto terraces/ });
  for (let i = 0; i < 20 && !(await onto.evaluate((e) => e === document.activeElement)); i++)
    await page.keyboard.press("Tab");
  await page.keyboard.press("Enter");
  await page.getByRole("heading", { name: "Put orchard onto terraces" }).waitFor();
  expect(errors).toEqual([]);
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
  // The question is answered, and the plan stands ready, without a mouse.
  await tabTo(page.locator('tbody[data-concern] [role="radiogroup"]').first());
  await page.keyboard.press("Space");
  const go = page.getByRole("button", { name: "Carry it out on terraces" });
  await page.waitForFunction(
    () => [...document.querySelectorAll("button")].some((b) => b.textContent === "Carry it out on terraces"),
    undefined,
  );
  expect(await go.count()).toBe(1);
  await page.keyboard.press("Control+k");
  await page.waitForFunction(() => document.activeElement?.closest('[role="dialog"]')); // it hears keys from now on
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
  await page.getByRole("button", { name: "All of these: moor", exact: true }).waitFor();
  await page.getByRole("row", { name: "fen-plot" }).getByText("Alder Carr").waitFor();
  expect(page.url()).toContain("by=host");
  await page.getByRole("button", { name: "Keep this view …" }).click();
  await page.getByLabel("Call it").fill("plots");
  await page.getByRole("button", { name: "Keep it" }).click();
  await page.reload();
  await page.getByRole("link", { name: "plots" }).waitFor();
  await page.getByRole("button", { name: "All of these: local", exact: true }).click();
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
