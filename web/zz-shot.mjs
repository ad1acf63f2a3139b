import { chromium } from "playwright-core";
import { readFileSync } from "node:fs";
const [, , width, height, full, ...pairs] = process.argv;
const log = readFileSync("/tmp/hd/log", "utf8");
const base = /console\s+(\S+)/.exec(log)[1];
const [, user, password] = /sign in\s+(\S+) \/ (\S+)/.exec(log);
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox", "--disable-gpu"] });
const ctx = await browser.newContext({ viewport: { width: +width, height: +height }, baseURL: base, colorScheme: process.env.SCHEME ?? "light" });
const page = await ctx.newPage();
page.on("console", (m) => m.type() === "error" && console.log("ERR", m.text()));
page.on("pageerror", (e) => console.log("PAGEERR", e.message));
await page.goto("/sign-in");
await page.getByLabel("Name").fill(user);
await page.getByLabel("Password").fill(password);
await page.getByRole("button", { name: "Sign in" }).click();
await page.waitForURL((u) => !u.pathname.includes("sign-in"));
for (let i = 0; i < pairs.length; i += 2) {
  await page.goto(pairs[i + 1]);
  await page.waitForLoadState("networkidle").catch(() => {});
  await page.waitForTimeout(700);
  const wide = await page.evaluate(() => document.documentElement.scrollWidth - innerWidth);
  const tall = await page.evaluate(() => document.documentElement.scrollHeight);
  console.log(pairs[i], "over", wide, "tall", tall);
  await page.screenshot({ path: `/tmp/shots/${pairs[i]}.png`, fullPage: full === "full" && tall < 4000 });
}
await browser.close();
