import { join } from "node:path";
import type { Browser, Locator, Page } from "playwright-core";
import { drop, type Demo } from "./demo";

/** How long a person looks before each thing that they do, in milliseconds. */
const decision = 300;

export type Hand = "mouse" | "touch" | "keyboard";

/** Goes on with Tab until something has the focus; nothing is clicked, and the focus is never put anywhere. */
export async function tabTo(what: Locator): Promise<void> {
  await what.waitFor();
  for (let i = 0; i < 160; i++) {
    if (await what.evaluate((e) => e.contains(document.activeElement))) return;
    await what.page().keyboard.press("Tab");
  }
  throw new Error(`Tab does not come to ${what.toString()}`);
}

/** What a person does to a page, each after a look, and how many clicks, taps or Enters it has taken. */
export class Person {
  clicks = 0;

  constructor(
    readonly page: Page,
    private readonly hand: Hand = "mouse",
  ) {}

  async click(what: Locator): Promise<void> {
    await what.waitFor();
    await this.look();
    if (this.hand === "touch") await what.tap();
    else if (this.hand === "mouse") await what.click();
    else {
      await tabTo(what);
      await this.page.keyboard.press("Enter");
    }
    this.clicks++;
  }

  /** Chooses one of several. */
  async choose(what: Locator): Promise<void> {
    if (this.hand !== "keyboard") return this.click(what);
    await tabTo(what);
    await this.page.keyboard.press("Space");
    this.clicks++;
  }

  async type(what: Locator, text: string): Promise<void> {
    await what.waitFor();
    await this.look();
    if (this.hand !== "keyboard") return what.fill(text);
    await tabTo(what);
    await this.page.keyboard.type(text);
  }

  /** Gives a file: drops it with a mouse, and chooses it without one. */
  async give(file: string): Promise<void> {
    await this.look();
    if (this.hand === "mouse") return drop(this.page, file);
    const [chooser] = await Promise.all([
      this.page.waitForEvent("filechooser"),
      this.click(this.page.getByRole("button", { name: "Choose files" })),
    ]);
    await chooser.setFiles(file);
  }

  private async look(): Promise<void> {
    await this.page.waitForTimeout(decision);
  }
}

/**
 * The main job as a person does it: from sign-in over a world's archive to the proof that it runs on a local server.
 * Gives the clicks, the seconds that it took, and the number of the changeover.
 */
export async function mainJob(
  demo: Demo,
  { hand = "mouse", ...options }: { hand?: Hand } & Parameters<Browser["newContext"]>[0] = {},
) {
  const context = await demo.browser.newContext({
    baseURL: demo.address,
    viewport: { width: 1280, height: 800 },
    hasTouch: hand === "touch",
    ...options,
  });
  const page = await context.newPage();
  const person = new Person(page, hand);
  await page.goto("/");
  const begun = Date.now();
  await person.type(page.getByLabel("Name"), demo.user);
  await person.type(page.getByLabel("Password"), demo.password);
  await person.click(page.getByRole("button", { name: "Sign in" }));
  await page.getByText("Drop a world's archive here,").waitFor();
  await person.give(join(demo.data, "samples", "fen-garden.zip"));
  await page.getByRole("heading", { name: "Bring “Fen Garden” over" }).waitFor();
  await page.getByText("fits, settings change with it").first().waitFor();
  await person.click(page.getByRole("link", { name: /north-plot/ }));
  // The plan is seen before it is carried out, and so is what stands there now and then.
  await page.getByRole("figure", { name: "Now and then" }).waitFor();
  await page.getByText("Players are locked out from here", { exact: true }).waitFor();
  await person.click(page.getByRole("button", { name: "Carry it out on north-plot" }));
  await page.getByText("the console answers seed: -4713582209").waitFor();
  const seconds = (Date.now() - begun) / 1000;
  const changeover = /changeovers\/(\d+)/.exec(page.url())?.[1] ?? "";
  await context.close();
  return { clicks: person.clicks, seconds, changeover };
}
