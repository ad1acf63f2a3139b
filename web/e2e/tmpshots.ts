import { chromium } from "playwright-core";
import { readFileSync } from "node:fs";
import { test } from "vitest";
const flags = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"];
test("shots", async () => {
  const log = readFileSync("/tmp/demo1.log", "utf8");
  const address = /console\s+(\S+)/.exec(log)![1]!;
  const [, user = "", password = ""] = /sign in\s+(\S+) \/ (\S+)/.exec(log)!;
  const b = await chromium.launch({ executablePath: "/usr/bin/chromium", args: flags });
  const c = await b.newContext({ viewport: { width: 1280, height: 800 }, baseURL: address });
  const p = await c.newPage();
  p.on("console", (m) => m.type() === "error" && console.log("ERR", m.text()));
  await p.goto("/sign-in");
  await p.getByLabel("Name").fill(user); await p.getByLabel("Password").fill(password);
  await p.getByRole("button", { name: "Sign in" }).click();
  await p.getByRole("heading", { name: "Servers" }).waitFor();
  const steps = JSON.parse(readFileSync("/tmp/shots.json", "utf8")) as { name: string; url: string; wait?: string; click?: string[]; full?: boolean; fill?: [string, string][]; pause?: number; scroll?: string }[];
  for (const s of steps) {
    await p.goto(s.url);
    if (s.wait) await p.getByText(s.wait, { exact: false }).first().waitFor();
    for (const [l, v] of s.fill ?? []) await p.getByLabel(l, { exact: true }).fill(v);
    for (const k of s.click ?? []) { await p.getByText(k, { exact: false }).first().click(); await p.waitForTimeout(700); }
    await p.waitForTimeout(s.pause ?? 900);
    await p.screenshot({ path: `/tmp/shots/${s.name}.png`, fullPage: s.full ?? false });
  }
  await b.close();
}, 120_000);
