import { join } from "node:path";
import type { Page } from "playwright-core";
import { afterAll, beforeAll, expect, test } from "vitest";
import { accessible, Demo } from "./demo";

// More journeys, on a demo of their own: worlds changed on servers, hosts, and backups.
let demo: Demo;
beforeAll(async () => {
  demo = await Demo.start();
});
afterAll(async () => {
  await demo?.stop();
});

test("a new world with a seed of one's own, and the way back", async () => {
  const { page, context, errors } = await demo.page();
  await page.goto("/servers/north-plot");
  await page.getByRole("link", { name: "Make a new world" }).click();
  const row = page.locator('tbody[data-concern="seed"]');
  await row.getByText("the new one would have the same ground", { exact: false }).waitFor();
  expect(await page.getByRole("button", { name: /^Carry it out/ }).isDisabled()).toBe(true);
  await accessible(page);
  await page.getByText("my own", { exact: true }).click();
  await page.getByLabel("My seed").fill("-9000000000");
  await page.getByLabel("Name on disk", { exact: true }).fill("spring");
  await row.getByText("The new world gets the seed -9000000000.").waitFor();
  await page.getByRole("button", { name: "Carry it out on north-plot" }).click();
  await page.getByText("the ground is new").last().waitFor();
  await page.getByText("the console answers seed: -9000000000").waitFor();
  // Back by a switch: the old world has stayed where it is.
  await page.goto("/servers/north-plot");
  await page.getByRole("link", { name: "Switch to it" }).click();
  await page.getByRole("button", { name: "Carry it out on north-plot" }).click();
  await page.getByText("the log names the opened world: winter-beds").waitFor();
  await page.goto("/change?kind=rename&server=north-plot");
  await page.getByLabel("New name on disk").fill("spring");
  await page.getByText("is taken on this server", { exact: false }).waitFor();
  await page.getByLabel("New name on disk").fill("win ter");
  await page.getByText("win-ter", { exact: true }).click();
  await page.getByText("becomes “win-ter” on disk", { exact: false }).waitFor();
  expect(errors).toEqual([]);
  await context.close();
});

test("landmarks, a word that is waited for, and what was set aside", async () => {
  const { page, context, errors } = await demo.page();
  await page.goto("/library/fen-garden");
  await page.getByLabel("Look for").fill("red roof by the well");
  await page.getByLabel("At", { exact: true }).fill("120 / -30");
  await page.getByRole("button", { name: "Add the landmark" }).click();
  await page.getByText("at 120 / -30").waitFor();
  await accessible(page);
  await page.goto("/change?kind=put&world=fen-garden&server=north-plot");
  await page.getByText("Other wishes").click();
  await page.getByText("Stage it now, and switch when I say so").click();
  await page.getByRole("button", { name: "Carry it out on north-plot" }).click();
  await page.getByText("Waiting for you").waitFor();
  await accessible(page);
  await page.getByRole("button", { name: "Go on: switch now" }).click();
  await page.getByRole("button", { name: "Missing: red roof by the well" }).click();
  await page.locator('[data-mark="blocks"]').getByText("missing").waitFor();
  await page.getByRole("button", { name: "I have seen: red roof by the well" }).click();
  await page.locator('[data-mark="fits"]').getByText("seen").waitFor();
  await accessible(page);
  const id = page.url().split("/").at(-1) ?? "";
  await page.goto("/servers/north-plot");
  await page.getByRole("tab", { name: "Set aside" }).click();
  await page.getByRole("button", { name: `Remove north-plot/${id} …` }).click();
  const remove = page.getByRole("button", { name: "Remove it for good" });
  expect(await remove.isDisabled()).toBe(true);
  await accessible(page);
  await page.getByLabel(`Type north-plot/${id} to remove it for good`).fill(`north-plot/${id}`);
  await remove.click();
  await page.getByText(`north-plot/${id}`, { exact: true }).waitFor({ state: "detached" });
  expect(errors).toEqual([]);
  await context.close();
});

test("a clone, and a world taken away and downloaded", async () => {
  const { page, context, errors } = await demo.page();
  await page.goto("/servers/terraces");
  await page.getByRole("link", { name: "Clone it onto north-plot" }).click();
  await page.getByText("Have terraces hold its writes.", { exact: false }).waitFor();
  await page.getByRole("button", { name: "Carry it out on north-plot" }).click();
  await page.getByText("the log names the opened world: top-terrace").waitFor();
  await page.getByRole("button", { name: "Undo …" }).click();
  await page.getByRole("button", { name: "Carry it out on north-plot" }).click();
  await page.locator('header [data-mark="done"]').waitFor();
  await page.goto("/servers/terraces");
  await page.getByRole("link", { name: "Take it away to play alone" }).click();
  await page.getByRole("button", { name: "Carry it out on terraces" }).click();
  const [download] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: "Download it" }).click(),
  ]);
  expect(download.suggestedFilename()).toBe("top-terrace.qworld");
  expect(errors).toEqual([]);
  await context.close();
});

test("a host's key is asked about before anything is sent, and a server there is in a person's hands", async () => {
  const { page, context, errors } = await demo.page();
  await page.goto("/hosts");
  await page.getByText("Worlds go over as one stream that is unpacked there.").waitFor();
  await page.getByText("a person starts and stops the servers").waitFor();
  await accessible(page);
  const quay = page.getByRole("region", { name: "quay" });
  if ((await quay.count()) > 0) {
    // as root, where a real FTP server runs
    await quay.getByText("The provider’s own interface").click();
    await quay.getByLabel("What the provider calls the server").fill("14");
    await quay.getByRole("button", { name: "Look whether it can be seen" }).click();
    await quay.getByText("✓ state: its provider says that it is awake").waitFor();
    await accessible(page);
    await page.goto("/servers/withy-plot");
    await page.getByRole("tab", { name: "Provider’s backups" }).click();
    await page.getByText("Tollen Plots has 0 of 2 backups of withy-plot").waitFor();
    await page.getByRole("button", { name: "Have the provider make one" }).click();
    await page.getByRole("button", { name: "Remove jar-1 …" }).click();
    await accessible(page);
    await page.getByRole("button", { name: "Remove it: nobody can bring it back" }).click();
    await page.getByText("Tollen Plots has 0 of 2 backups of withy-plot").waitFor();
    await page.goto("/hosts");
  }
  const at =
    (await page
      .getByText(/@127\.0\.0\.1:\d+/)
      .first()
      .textContent()) ?? "";
  await page.getByLabel("Name of the host").fill("again");
  await page.getByLabel("Address").fill(`sftp://${at}`);
  await expect(page.getByLabel("User at the host").count()).resolves.toBe(0);
  await page.getByLabel("Password at the host").fill("not the password");
  await page.getByRole("button", { name: "Sign in and check" }).click();
  await page.getByText("Is this the host’s key?").waitFor();
  await page.getByRole("button", { name: "It is the same: accept it" }).click();
  await page.getByText("with password").waitFor();
  await page.getByText("Nothing was recorded.").waitFor();

  await page.goto("/servers/sedge-plot");
  await page.getByText("is the word of").waitFor();
  await page.getByRole("button", { name: "Start" }).click();
  await page.getByText("a person has been asked to start it").waitFor();
  await page.getByRole("button", { name: "It runs: I have started it" }).click();
  await page.locator('[data-mark="running"]').first().waitFor();
  // The browser itself tells of the three answers that were meant to be problems.
  expect(errors.filter((e) => !e.includes("409") && !e.includes("503"))).toEqual([]);
  await context.close();
});

test("the library is searched, and the files of a copy are listed", async () => {
  const { page, context, errors } = await demo.page();
  await page.goto("/library");
  await page.getByLabel("Search").fill("4713582209");
  await page.getByRole("link", { name: "“Orchard" }).waitFor({ state: "detached" });
  await page.getByRole("img", { name: "Fen Garden from above" }).waitFor();
  await page.getByLabel("Search").fill("nothing of that kind");
  await page.getByText("No world of the library has all of that.").waitFor();
  await accessible(page);
  await page.goto("/library/fen-garden");
  await page.getByRole("button", { name: "List the files of the newest copy" }).click();
  const [download] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: "heart.cbor.gz" }).click(),
  ]);
  expect(download.suggestedFilename()).toBe("heart.cbor.gz");
  await accessible(page);
  expect(errors).toEqual([]);
  await context.close();
});

test("seven tabs share one stream, and each sees what changes in another", async () => {
  const { page, context, errors } = await demo.page();
  const others: Page[] = [];
  for (let i = 0; i < 6; i++) {
    const tab = await context.newPage();
    await tab.goto(i % 2 === 0 ? "/servers" : "/servers/north-plot");
    await tab.getByText("north-plot").first().waitFor();
    others.push(tab);
  }
  await page.goto("/servers/north-plot");
  await page.getByRole("tab", { name: "Log" }).click();
  await page.getByRole("button", { name: "Stop" }).click();
  await page.locator('[data-mark="stopped"]').first().waitFor();
  for (const [i, tab] of others.entries()) {
    const where = i % 2 === 0 ? tab.getByRole("row", { name: "north-plot" }) : tab;
    await where.locator('[data-mark="stopped"]').first().waitFor({ timeout: 10_000 });
  }
  await page.getByRole("button", { name: "Start" }).click();
  await page.locator('[data-mark="running"]').first().waitFor();
  await page.getByRole("log").getByText("ready on port").first().waitFor();
  for (const tab of others) await tab.locator('[data-mark="running"]').first().waitFor({ timeout: 10_000 });
  expect(errors).toEqual([]);
  await context.close();
});

test("a rule with its preview, a backup, and the way back to it", async () => {
  const { page, context, errors } = await demo.page();
  await page.goto("/servers/north-plot?tab=backups");
  await page.getByText("There is none yet.").waitFor();
  await accessible(page);
  await page.getByRole("button", { name: "Add a rule …" }).click();
  await page.getByText(/In the long run, of .* backups: \d+ are kept/).waitFor();
  await page.getByLabel("How long").fill("all for 2 days, then seven a week");
  await page.getByRole("alert").getByText("does not read").waitFor();
  await accessible(page);
  await page.getByLabel("How long").fill("all for 2 days, then one a week for 1 year");
  await page.getByText("then one a week for 1 year.", { exact: false }).first().waitFor();
  await page.getByRole("button", { name: "Add this rule" }).click();
  await page.getByText(/Due next on/).waitFor();
  await page.getByRole("button", { name: "Back it up now" }).click();
  await page.getByText("good", { exact: true }).waitFor();
  await page.getByText(/kept: made by hand: no rule lets it go/).waitFor();
  await page.getByRole("button", { name: "Pin it" }).click();
  await page.getByText("· pinned").waitFor();
  await accessible(page);
  await page.getByRole("link", { name: "Go back to it …" }).click();
  await page.getByRole("heading", { name: "Go back to backup" }).waitFor();
  await page.getByText(/Against what stands on the server|What stands on the server is/).waitFor();
  await accessible(page);

  await page.goto("/backups");
  await page.getByText("Nothing needs you.").waitFor();
  await page
    .getByRole("row", { name: /north-plot/ })
    .getByText("well")
    .waitFor();
  await page.getByRole("button", { name: "Add a store …" }).click();
  await page.getByLabel("Name of the store").fill("granary");
  await page.getByRole("textbox", { name: "Folder" }).fill(join(demo.data, "granary"));
  await accessible(page);
  await page.getByRole("button", { name: "Add this store" }).click();
  await page.getByText(/and lacks nothing/).waitFor();
  await page.getByRole("button", { name: "Read it back now" }).click();
  await page.getByText("everything is as it was sent").waitFor();
  await accessible(page);
  await page.setViewportSize({ width: 390, height: 800 });
  expect(await page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(390);
  // What was typed wrongly is refused, and a browser notes that.
  expect(errors.filter((e) => !e.includes("422"))).toEqual([]);
  await context.close();
});

/** Goes on with Tab until a control has the focus; nothing is clicked, and the focus is never put anywhere. */
async function tabTo(page: Page, role: "button" | "link" | "textbox" | "tab", name: string | RegExp) {
  const wanted = page.getByRole(role, { name }).first();
  await wanted.waitFor();
  for (let i = 0; i < 120; i++) {
    if (await wanted.evaluate((e) => e.contains(document.activeElement))) return;
    await page.keyboard.press("Tab");
  }
  throw new Error(`Tab does not come to ${role} ${name}`);
}

async function press(page: Page, role: "button" | "link", name: string | RegExp) {
  await tabTo(page, role, name);
  await page.keyboard.press("Enter");
}

test("a rule, a backup, a note to somebody and the way back, by keyboard alone", async () => {
  const { page, context, errors } = await demo.page({ reducedMotion: "reduce" });
  await page.goto("/servers/terraces?tab=backups");
  await press(page, "button", "Add a rule …");
  await tabTo(page, "textbox", "How long");
  await page.keyboard.press("Control+a");
  await page.keyboard.type("all for 2 days, then one a week for 1 year");
  await page.getByText("then one a week for 1 year.", { exact: false }).first().waitFor();
  await press(page, "button", "Add this rule");
  await page.getByText(/Due next on/).waitFor();
  await press(page, "button", "Back it up now");
  await page.getByText("good", { exact: true }).waitFor();
  await press(page, "button", "Pin it");
  await page.getByText("· pinned").waitFor();
  await press(page, "link", "Go back to it …");
  await page.getByRole("heading", { name: "Go back to backup" }).waitFor();
  await page.goBack();
  await press(page, "button", /^Pause/);
  await page.getByText(/Paused by/).waitFor();

  await page.goto("/backups");
  await press(page, "button", "Tell somebody …");
  await tabTo(page, "textbox", "Name of who is told");
  await page.keyboard.type("club");
  await tabTo(page, "textbox", "Address of the webhook");
  await page.keyboard.type("http://127.0.0.1:1/nobody");
  await press(page, "button", "Tell from now on");
  await page.getByRole("alert").first().waitFor(); // an address of this machine is none to tell
  await press(page, "button", "Leave it");
  await tabTo(page, "button", "Tell somebody …");
  await accessible(page);
  expect(errors.filter((e) => !/4\d\d/.test(e))).toEqual([]);
  await context.close();
});
