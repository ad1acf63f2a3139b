import type { Page } from "playwright-core";

/** Has the service's list at path answered with made-up items instead, page by page as the service does it. */
async function answer(page: Page, path: string, items: unknown[]) {
  await page.route(
    (url) => url.pathname === path,
    (route) => {
      const asked = new URL(route.request().url()).searchParams;
      const from = Number(asked.get("after") ?? 0);
      const to = from + Number(asked.get("limit") ?? 100);
      const Link = `<${path}?after=${to}>; rel="next"`;
      return route.fulfill({ json: items.slice(from, to), headers: to < items.length ? { Link } : {} });
    },
  );
}

/** Makes the fleet of a page n servers, each like the demo's first one. */
export async function manyServers(page: Page, n: number) {
  const [one] = (await (await page.request.get("/api/v1/servers")).json()) as object[];
  await answer(
    page,
    "/api/v1/servers",
    Array.from({ length: n }, (_, i) => ({
      ...one,
      name: `plot-${String(i).padStart(4, "0")}`,
      host: `host-${i % 30}`,
      activeTitle: `Bed ${i}`,
      drawn: false,
      state: i % 7 === 0 ? "stopped" : "running",
    })),
  );
}

/** Makes the library of a page n worlds, each like the demo's first one. */
export async function manyWorlds(page: Page, n: number) {
  const [one] = (await (await page.request.get("/api/v1/worlds")).json()) as { copies: object[] }[];
  await answer(
    page,
    "/api/v1/worlds",
    Array.from({ length: n }, (_, i) => ({
      ...one,
      name: `bed-${i}`,
      title: `Bed ${i}`,
      copies: one?.copies.map((c) => ({ ...c, id: String(i).padStart(64, "0"), drawn: false })),
    })),
  );
}

/** How a page scrolls: milliseconds a frame, sorted, and how many rows the page holds at the end. */
export async function scrolled(page: Page, frames: number, by: number) {
  return await page.evaluate(
    async ([n, top]) => {
      const took: number[] = [];
      let last = performance.now();
      for (let i = 0; i < n; i++) {
        scrollBy({ top, behavior: "instant" });
        await new Promise(requestAnimationFrame);
        took.push(performance.now() - last);
        last = performance.now();
      }
      return {
        took: took.toSorted((a, b) => a - b),
        rows: document.querySelectorAll('[role="row"]').length,
        at: scrollY,
      };
    },
    [frames, by] as const,
  );
}
