import { spawn, type ChildProcess } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { AxeBuilder } from "@axe-core/playwright";
import { chromium, type Browser, type BrowserContext, type Page } from "playwright-core";
import { expect } from "vitest";

export const flags = [
  "--no-sandbox",
  "--disable-gpu",
  "--disable-quic",
  "--no-first-run",
  "--disable-background-networking",
  "--disable-component-update",
  "--disable-sync",
];

/** A demo of its own: the real service with real servers, and a browser to look at it. */
export class Demo {
  address = "";
  user = "";
  password = "";
  browser!: Browser;
  readonly data = mkdtempSync(join(tmpdir(), "reshard-console-"));
  private process!: ChildProcess;
  private said = "";

  static async start(): Promise<Demo> {
    const demo = new Demo();
    demo.process = spawn(join(import.meta.dirname, "../../bin/reshard"), ["demo", "--data", demo.data], {
      stdio: ["ignore", "pipe", "pipe"],
    });
    await new Promise<void>((resolve, reject) => {
      const take = (chunk: Buffer) => {
        demo.said += chunk.toString();
        if (demo.said.includes("Ctrl-C ends everything")) resolve();
      };
      demo.process.stdout?.on("data", take);
      demo.process.stderr?.on("data", take);
      demo.process.on("exit", () => reject(new Error(`the demo ended: ${demo.said}`)));
    });
    demo.address = /console\s+(\S+)/.exec(demo.said)?.[1] ?? "";
    [, demo.user = "", demo.password = ""] = /sign in\s+(\S+) \/ (\S+)/.exec(demo.said) ?? [];
    demo.browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: flags });
    return demo;
  }

  /** A signed-in page of a browser context of its own. */
  async page(
    options: Parameters<Browser["newContext"]>[0] = {},
  ): Promise<{ page: Page; context: BrowserContext; errors: string[] }> {
    const context = await this.browser.newContext({
      viewport: { width: 1280, height: 800 },
      baseURL: this.address,
      ...options,
    });
    const page = await context.newPage();
    const errors: string[] = [];
    page.on("pageerror", (e) => errors.push(e.message));
    page.on("console", (m) => m.type() === "error" && errors.push(m.text()));
    await page.goto("/sign-in").catch(async (e: Error) => {
      e.message += `\n${await this.whoHangs()}`;
      throw e;
    });
    await page.getByLabel("Name").fill(this.user);
    await page.getByLabel("Password").fill(this.password);
    await page.getByRole("button", { name: "Sign in" }).click();
    await page.getByRole("heading", { name: "Home" }).waitFor();
    await page.getByRole("link", { name: "Servers", exact: true }).click();
    await page.getByRole("heading", { name: "Servers", exact: true }).waitFor();
    return { page, context, errors };
  }

  /** Tells a service that hangs, with what each of its parts was doing, from a browser that does. */
  private async whoHangs(): Promise<string> {
    if (this.process.exitCode !== null || this.process.signalCode !== null)
      return `The service has ended (${this.process.exitCode ?? this.process.signalCode}): ${this.said.slice(-4000)}`;
    const asked = Date.now();
    try {
      const answer = await fetch(`${this.address}/sign-in`, { signal: AbortSignal.timeout(5_000) });
      await answer.text();
      return `The service itself answered ${answer.status} after ${Date.now() - asked} ms: the browser hangs.`;
    } catch (e) {
      this.process.kill("SIGQUIT");
      await new Promise((resolve) => setTimeout(resolve, 2_000));
      return `The service does not answer (${String(e)}). What it was doing: ${this.said.slice(-200_000)}`;
    }
  }

  async stop(): Promise<void> {
    await this.browser?.close();
    this.process.removeAllListeners("exit");
    const ended = this.process.exitCode !== null || this.process.signalCode !== null;
    if (!ended)
      await new Promise<void>((resolve) => {
        this.process.on("exit", () => resolve());
        this.process.kill("SIGINT");
      });
    rmSync(this.data, { recursive: true, force: true });
  }
}

/** Drops a file onto the page as a person does. */
export async function drop(page: Page, file: string) {
  const zone = page.getByText("Drop a world's archive here,");
  const box = await zone.boundingBox();
  if (!box) throw new Error("no drop zone");
  const session = await page.context().newCDPSession(page);
  const data = { items: [], files: [file], dragOperationsMask: 1 };
  for (const type of ["dragEnter", "dragOver", "drop"] as const) {
    await session.send("Input.dispatchDragEvent", { type, x: box.x + 20, y: box.y + 10, data });
  }
}

/** Holds a page to what a screen reader and a hand need of it; where names the page and its state. */
export async function accessible(page: Page, where = page.url()) {
  const { violations } = await new AxeBuilder({ page: page as never })
    .options({ rules: { "target-size": { enabled: true } } }) // WCAG 2.2; asked only when it is told to
    .analyze();
  expect(
    violations.map((v) => `${v.id}: ${v.nodes.map((n) => n.html).join(" ")}`),
    where,
  ).toEqual([]);
}
