import { mkdirSync, readFileSync, existsSync, writeFileSync } from "node:fs";
import type { AddressInfo } from "node:net";
import { join } from "node:path";
import { chromium, type Browser, type Page } from "playwright-core";
import { createServer, type ViteDevServer } from "vite";
import { afterAll, beforeAll, expect, test } from "vitest";
import { flags } from "./demo";

// The page of all parts, as development has it, held to its pictures. UPDATE_PICTURES=1 draws them anew: look at them.
let server: ViteDevServer;
let browser: Browser;
let address = "";
beforeAll(async () => {
  server = await createServer({
    root: join(import.meta.dirname, ".."),
    server: { port: 0, host: "127.0.0.1", hmr: false, watch: null },
    logLevel: "error",
  });
  await server.listen();
  const at = server.httpServer?.address() as AddressInfo;
  address = `http://127.0.0.1:${at.port}`;
  browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: flags });
});
afterAll(async () => {
  await browser?.close();
  await server?.close();
});

const kept = join(import.meta.dirname, "pictures");

/** Of a hundred pixels so many may differ: where a symbol comes from the machine's own fonts, they do. */
const mayDiffer = 0.6;

/** How many of a hundred pixels of two pictures differ so that an eye sees it; 100 when their sizes do. */
async function differing(page: Page, before: Buffer, after: Buffer): Promise<number> {
  return await page.evaluate(
    async (both) => {
      const [x, y] = await Promise.all(
        both.map(async (data) => {
          const img = await createImageBitmap(await (await fetch(`data:image/png;base64,${data}`)).blob());
          const to = new OffscreenCanvas(img.width, img.height).getContext("2d");
          to?.drawImage(img, 0, 0);
          return to?.getImageData(0, 0, img.width, img.height);
        }),
      );
      if (!x || !y || x.width !== y.width || Math.abs(x.height - y.height) > 6) return 100;
      let n = 0;
      const all = Math.min(x.data.length, y.data.length);
      for (let i = 0; i < all; i += 4) {
        const by = [0, 1, 2].map((c) => Math.abs((x.data[i + c] ?? 0) - (y.data[i + c] ?? 0)));
        if (Math.max(...by) > 48) n++;
      }
      return (400 * n) / all;
    },
    [before.toString("base64"), after.toString("base64")],
  );
}

for (const [look, width, colorScheme, forcedColors] of [
  ["light-1280", 1280, "light", "none"],
  ["dark-1280", 1280, "dark", "none"],
  ["light-390", 390, "light", "none"],
  ["forced-820", 820, "light", "active"],
] as const)
  test(`the parts look as they did: ${look}`, async () => {
    const context = await browser.newContext({
      baseURL: address,
      viewport: { width, height: 800 },
      colorScheme,
      forcedColors,
      reducedMotion: "reduce",
      locale: "en-GB",
      timezoneId: "UTC",
    });
    const page = await context.newPage();
    await page.clock.setFixedTime(new Date("2026-04-20T12:00:00Z"));
    await page.goto("/parts");
    await page.getByRole("heading", { name: "Days with backups", exact: true }).waitFor();
    await page.evaluate(() => document.fonts.ready);
    await page
      .getByRole("button", { name: /April 19/ })
      .or(page.getByRole("button", { name: /19 April/ }))
      .first()
      .waitFor();
    const picture = await page.screenshot({ fullPage: true, animations: "disabled" });
    const file = join(kept, `parts-${look}.png`);
    if (process.env["UPDATE_PICTURES"]) {
      mkdirSync(kept, { recursive: true });
      writeFileSync(file, picture);
    }
    expect(existsSync(file), `${file}: draw it with UPDATE_PICTURES=1`).toBe(true);
    await page.goto("about:blank");
    const share = await differing(page, readFileSync(file), picture);
    expect(share, "of a hundred pixels").toBeLessThan(mayDiffer);
    // A picture of something else is not taken for it.
    if (look === "light-1280") {
      await page.goto("/parts");
      await page.getByRole("heading", { name: "Days with backups", exact: true }).waitFor();
      await page.addStyleTag({
        content: "h2 { color: transparent !important } section { padding: 0.9rem !important }",
      });
      const other = await page.screenshot({ fullPage: true, animations: "disabled" });
      await page.goto("about:blank");
      expect(await differing(page, picture, other)).toBeGreaterThan(mayDiffer);
    }
    await context.close();
  });
