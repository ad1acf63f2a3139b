import { spawn, type ChildProcess } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { chromium, type Browser, type BrowserContext, type Page } from "playwright-core";

const flags = [
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

  static async start(): Promise<Demo> {
    const demo = new Demo();
    demo.process = spawn(join(import.meta.dirname, "../../bin/reshard"), ["demo", "--data", demo.data], {
      stdio: ["ignore", "pipe", "pipe"],
    });
    let seen = "";
    await new Promise<void>((resolve, reject) => {
      const take = (chunk: Buffer) => {
        seen += chunk.toString();
        if (seen.includes("Ctrl-C ends everything")) resolve();
      };
      demo.process.stdout?.on("data", take);
      demo.process.stderr?.on("data", take);
      demo.process.on("exit", () => reject(new Error(`the demo ended: ${seen}`)));
    });
    demo.address = /console\s+(\S+)/.exec(seen)?.[1] ?? "";
    [, demo.user = "", demo.password = ""] = /sign in\s+(\S+) \/ (\S+)/.exec(seen) ?? [];
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
    await page.goto("/sign-in");
    await page.getByLabel("Name").fill(this.user);
    await page.getByLabel("Password").fill(this.password);
    await page.getByRole("button", { name: "Sign in" }).click();
    await page.getByRole("heading", { name: "Servers" }).waitFor();
    return { page, context, errors };
  }

  async stop(): Promise<void> {
    await this.browser?.close();
    this.process.removeAllListeners("exit");
    await new Promise<void>((resolve) => {
      this.process.on("exit", () => resolve());
      this.process.kill("SIGINT");
    });
    rmSync(this.data, { recursive: true, force: true });
  }
}
