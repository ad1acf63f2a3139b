import type { Page, Route } from "playwright-core";
import { afterAll, beforeAll, expect, test } from "vitest";
import { accessible, Demo } from "./demo";

// Each page in the states that it has beside the usual one: still to come, not allowed, failed, and empty.
let demo: Demo;
beforeAll(async () => {
  demo = await Demo.start();
});
afterAll(async () => {
  await demo?.stop();
});

const pages = [
  "/",
  "/servers",
  "/servers/north-plot",
  "/servers/north-plot?tab=changeovers",
  "/servers/north-plot?tab=backups",
  "/bring",
  "/change?kind=reset&server=north-plot",
  "/library",
  "/library/fen-garden",
  "/compare?before=fen-garden&after=orchard",
  "/changeovers",
  "/changeovers/1",
  "/backups",
  "/games",
  "/hosts",
  "/users",
  "/vault",
  "/add-server",
];

/** Has every question of a page, but for who asks, go the same way. */
async function all(page: Page, way: (route: Route) => Promise<void> | void) {
  await page.route(
    (url) => url.pathname.startsWith("/api/v1/") && !/\/(me|events)$/.test(url.pathname),
    (route) => way(route),
  );
}

const problem = (status: number, code: string, detail: string, next: string) => ({
  status,
  contentType: "application/problem+json",
  body: JSON.stringify({ status, code, detail, next, options: [], labels: [] }),
});

test("what may not be seen is said on every page, with what to do", { timeout: 200_000 }, async () => {
  const { page, context } = await demo.page();
  await all(page, (r) =>
    r.fulfill(problem(403, "forbidden", "You may not look here.", "Ask who runs the service.")),
  );
  for (const at of pages) {
    await page.goto(at);
    await page.getByRole("alert").filter({ hasText: "Ask who runs the service." }).first().waitFor();
    await accessible(page, `${at}, not allowed`);
  }
  await context.close();
});

test("what is still to come has a shape on every page", { timeout: 200_000 }, async () => {
  const { page, context } = await demo.page({
    viewport: { width: 390, height: 800 },
    reducedMotion: "reduce",
  });
  const held: Route[] = [];
  await all(page, (r) => void held.push(r));
  for (const at of pages.filter((p) => p !== "/add-server" && p !== "/bring")) {
    await page.goto(at);
    await page.locator('[aria-busy="true"]').first().waitFor();
    await accessible(page, `${at}, still to come`);
    const over = await page.evaluate(() => document.documentElement.scrollWidth - innerWidth);
    expect(over, at).toBeLessThanOrEqual(0);
  }
  await context.close();
});

test("a service that does not answer is asked again at a press", async () => {
  const { page, context } = await demo.page();
  let away = true;
  await page.route(
    (url) => url.pathname === "/api/v1/changeovers",
    (r) =>
      away
        ? r.fulfill(problem(403, "unreachable", "The database does not answer.", "It goes on by itself."))
        : r.continue(),
  );
  await page.goto("/changeovers");
  await page.getByText("The database does not answer.").waitFor();
  await page.waitForTimeout(2000); // the stream opens, and has everything asked for once more
  away = false;
  await page.getByRole("button", { name: "Try again" }).click();
  await page.getByText("Nothing has been changed yet.").waitFor();
  await context.close();
});

test("a service that knows nothing yet leads to the first server and the first world", async () => {
  const { page, context } = await demo.page();
  await all(page, (r) =>
    r.request().method() === "GET" && !r.request().url().includes("/games")
      ? r.fulfill({ json: [] })
      : r.continue(),
  );
  await page.goto("/");
  await page.getByRole("heading", { name: "Begin with a server" }).waitFor();
  await accessible(page, "first run");
  await page.getByRole("link", { name: "Add the first one" }).click();
  await page.getByRole("heading", { name: "Add a server" }).waitFor();
  for (const [at, says] of [
    ["/servers", "No servers yet."],
    ["/library", "drop one above"],
    ["/changeovers", "Nothing has been changed yet."],
    ["/hosts", "Add an account on another machine"],
    ["/bring", "Drop a world's archive here,"],
  ] as const) {
    await page.goto(at);
    await page.getByText(says).first().waitFor();
    await accessible(page, `${at}, empty`);
  }
  await context.close();
});
