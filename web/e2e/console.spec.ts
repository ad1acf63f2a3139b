import { execFileSync } from "node:child_process";
import { cpSync, mkdirSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, expect, test } from "vitest";
import { accessible, Demo, drop } from "./demo";

let demo: Demo;
beforeAll(async () => {
  demo = await Demo.start();
});
afterAll(async () => {
  await demo?.stop();
});

const sample = (name: string) => join(demo.data, "samples", name);

test("nothing is shown to who is not signed in", async () => {
  const context = await demo.browser.newContext({ baseURL: demo.address });
  const page = await context.newPage();
  await page.goto("/servers");
  await page.getByRole("button", { name: "Sign in" }).waitFor();
  await page.getByLabel("Name").fill(demo.user);
  await page.getByLabel("Password").fill("not the password");
  await page.getByRole("button", { name: "Sign in" }).click();
  await page.getByRole("alert").getByText("the name or the password is wrong").waitFor();
  await accessible(page);
  await context.close();
});

test("from the sheet over the plan to live progress, proof and undo", async () => {
  const { page, context, errors } = await demo.page();
  await page.getByRole("link", { name: "north-plot" }).click();
  await page.getByText("“Winter Beds”").first().waitFor();
  await accessible(page);
  await page.getByRole("tab", { name: "Fit" }).click();
  await page.locator('tbody[data-concern="active-world"]').getByText("fits").waitFor();
  await accessible(page);
  await page.getByRole("button", { name: "See whether Fen Garden fits" }).click();
  const row = page.locator('tbody[data-concern="folder-name"]');
  await row.getByText("adjust").waitFor();
  expect(await row.textContent()).toContain("Write world.folder=Fen-Garden into quarry.properties.");
  await accessible(page);
  await page.getByRole("cell", { name: "world.folder=Fen-Garden", exact: true }).waitFor();
  await page.getByText("Players are locked out from here", { exact: true }).waitFor();
  await accessible(page);
  await page.getByRole("button", { name: "Carry it out on north-plot" }).click();
  await page.locator('[data-mark="done"]').first().waitFor();
  await page.getByText("the console answers seed: -4713582209").waitFor();
  await page.getByText("Log of north-plot").click();
  await page.getByRole("log").getByText('opening world "Fen-Garden"').waitFor();
  await accessible(page);

  await page.getByRole("button", { name: "Undo …" }).click();
  await page.getByText("Plan: nothing is touched").waitFor();
  await page.getByRole("button", { name: "Carry it out on north-plot" }).click();
  await page.getByText("the log names the opened world: winter-beds").waitFor();
  await page.goto("/servers");
  await page.getByRole("row", { name: "north-plot" }).getByText("“Winter Beds”").waitFor();
  expect(errors).toEqual([]);
  await context.close();
});

test("a row that asks is answered in place", async () => {
  const { page, context, errors } = await demo.page();
  await page.goto("/change?kind=put&world=orchard&server=north-plot");
  const row = page.locator('tbody[data-concern="characters"]');
  await row.getByText("choose", { exact: true }).waitFor();
  expect(await page.getByRole("button", { name: /^Carry it out/ }).isDisabled()).toBe(true);
  await accessible(page);
  await row.getByLabel("Another folder name").fill("Apfel/Baum");
  await row.getByRole("button", { name: "Use this name" }).click();
  await row.getByText("choose", { exact: true }).waitFor();
  await row.getByText("Apfel-Baum", { exact: true }).click();
  await row.getByText("fits", { exact: true }).waitFor();
  await page.getByRole("cell", { name: "world.folder=Apfel-Baum", exact: true }).waitFor();
  expect(errors).toEqual([]);
  await context.close();
});

test("what blocks cannot be planned", async () => {
  const { page, context } = await demo.page();
  await page.goto("/change?kind=put&world=old-glasshouse&server=north-plot");
  await page.getByText("newer than the server's 2.5.1").waitFor();
  expect(await page.getByRole("button", { name: /^Carry it out/ }).isDisabled()).toBe(true);
  expect(await page.locator("tbody[data-concern]").first().getAttribute("data-concern")).toBe("version");
  await context.close();
});

test("a world is dropped, several are asked about, and what is none is explained", async () => {
  const { page, context } = await demo.page();
  await page.goto("/library");
  await page.getByText("Drop a world's archive here,").waitFor();
  await drop(page, sample("two-plots.zip"));
  await page.getByText("two-plots.zip holds 2 worlds. Which one?").waitFor();
  await accessible(page);
  await page.getByText("plots/East Plot").click();
  await page.getByText("Stored “East Plot”, 7.1 KiB.").waitFor();
  await page.getByRole("link", { name: "“East Plot”" }).waitFor();
  await drop(page, sample("minutes.zip"));
  await page.getByRole("alert").getByText("Found instead: minutes-of-the-meeting.txt").waitFor();
  const empty = join(demo.data, "empty.zip");
  writeFileSync(empty, "");
  await drop(page, empty);
  await page.getByRole("alert").getByText("the file is empty").waitFor();
  await page.getByRole("link", { name: "“East Plot”" }).click();
  await page.getByRole("button", { name: "Verify every byte" }).click();
  await page.getByText("as it was stored").waitFor();
  await accessible(page);
  await context.close();
});

test("a folder is looked into before anything large is sent, and two states of a world are compared", async () => {
  const { page, context, errors } = await demo.page();
  const home = join(demo.data, "saves");
  mkdirSync(home);
  execFileSync("unzip", ["-q", sample("fen-garden.zip"), "-d", home]);
  const fen = join(home, "from Ada", "My Saves", "Fen-Garden");
  rmSync(join(fen, "ground", "t.-6.-6.qt"));
  cpSync(join(fen, "ground", "t.0.0.qt"), join(fen, "ground", "t.7.7.qt"));
  writeFileSync(join(fen, "held.lock"), "");
  await page.goto("/library");
  const asked: number[] = [];
  page.on("request", (r) => {
    if (r.url().endsWith("/recognise")) asked.push(r.postData()?.length ?? 0);
  });
  const [chooser] = await Promise.all([
    page.waitForEvent("filechooser"),
    page.getByRole("button", { name: "Choose a folder" }).click(),
  ]);
  await chooser.setFiles(home);
  await page.getByText("1 world in saves").waitFor();
  await page.getByText("seems to be open in the game (held.lock is there)").waitFor();
  expect(
    await page.getByRole("img", { name: "Fen Garden from above" }).first().getAttribute("src"),
  ).toContain("blob:");
  expect(asked.length).toBeLessThanOrEqual(3);
  expect(Math.max(...asked)).toBeLessThan(400_000);
  await accessible(page);
  await page.getByRole("button", { name: "Send Fen Garden" }).click();
  await page.getByText("It may be the same world as").waitFor();
  await page.getByRole("link", { name: "Look at it" }).click();
  await page.getByText("144 tiles explored").waitFor();
  await page.getByRole("button", { name: "Keep as one with fen-garden" }).click();
  await page.getByRole("heading", { name: "All its copies" }).waitFor();
  const map = page.getByRole("application");
  await map.focus();
  for (const key of ["+", "+", "ArrowLeft", "ArrowUp", "-", "0"]) await page.keyboard.press(key);
  // Who stands where is drawn, and a place is picked with a click, or with Enter for the middle.
  await map.getByText("Ada", { exact: true }).waitFor({ state: "attached" });
  await page.getByText("2 players").click();
  await map.getByText("Ada", { exact: true }).waitFor({ state: "detached" });
  const place = page.getByLabel("At", { exact: true });
  await map.focus();
  await page.keyboard.press("Enter");
  expect(await place.inputValue()).toBe("16 / 16");
  const box = await map.boundingBox();
  if (!box) throw new Error("no map");
  await map.click({ position: { x: box.width / 2 + 60, y: box.height / 2 - 40 } });
  const [east = 0, down = 0] = (await place.inputValue()).split(" / ").map(Number);
  expect([east > 16, down < 16]).toEqual([true, true]);
  await page.getByLabel("Look for").fill("the old well");
  await page.getByRole("button", { name: "Add the landmark" }).click();
  await map.getByText("the old well").waitFor({ state: "attached" });
  await page.getByRole("button", { name: "Forget: the old well" }).click();
  await map.getByText("the old well").waitFor({ state: "detached" });
  await accessible(page);
  await page.getByRole("link", { name: "What has changed since" }).click();
  await page.getByText("On the map 1 new tile, 1 lost tile and 143 tiles as they were.").waitFor();
  await page.getByText("as they were: 143").waitFor();
  await page.getByRole("figure", { name: "the line stands at 50 percent" }).waitFor();
  await page.getByRole("slider").focus();
  await page.keyboard.press("ArrowRight");
  await page.getByRole("figure", { name: "the line stands at 51 percent" }).waitFor();
  await accessible(page);
  await page.goBack();
  await page
    .getByRole("button", { name: /^Pin copy/ })
    .first()
    .click();
  await page.getByText("pinned", { exact: true }).waitFor();
  await page
    .getByRole("button", { name: /^Set aside copy/ })
    .first()
    .click();
  await page.getByText("set aside", { exact: true }).waitFor();
  await page.getByRole("button", { name: /^Bring back copy/ }).click();
  await page.getByText("set aside", { exact: true }).waitFor({ state: "detached" });
  await page.getByRole("button", { name: "Change title, note or tags" }).click();
  await page.getByLabel("Tags").fill("members, winter");
  await page.getByLabel("Note", { exact: true }).fill("from Ada's laptop");
  await page.getByRole("button", { name: "Save" }).click();
  await page.getByText("Tags: members, winter.").waitFor();
  await page.getByRole("button", { name: "List the files of the newest copy" }).click();
  await page
    .getByRole("button", { name: /^Read folk\// })
    .first()
    .click();
  await page.getByText("seed potatoes").waitFor();
  await page.getByRole("button", { name: /^Unpin copy/ }).click();
  await page.getByText("pinned", { exact: true }).waitFor({ state: "detached" });
  await page
    .getByRole("button", { name: /^Set aside copy/ })
    .first()
    .click(); // the other tests want it as it was
  await page.getByText("set aside", { exact: true }).waitFor();
  await page.goto("/vault");
  await page.getByRole("button", { name: "Check it" }).click();
  await page.getByText("everything is as it was stored").waitFor();
  await accessible(page);
  expect(errors).toEqual([]);
  await context.close();
});

test("an upload that was cut off goes on where it was", async () => {
  const { page, context } = await demo.page();
  const world = join(demo.data, "large");
  execFileSync(join(import.meta.dirname, "../../bin/standin"), [
    "quarrymoss",
    "make",
    "--title",
    "Long Field",
    "--tiles",
    "120",
    "--tile-bytes",
    "1000000",
    world,
  ]);
  execFileSync("tar", ["-cf", `${world}.tar`, "-C", demo.data, "large"]);
  await page.goto("/library");
  await page.getByText("Drop a world's archive here,").waitFor();
  const session = await context.newCDPSession(page);
  await session.send("Network.emulateNetworkConditions", {
    offline: false,
    latency: 0,
    downloadThroughput: -1,
    uploadThroughput: 20_000_000,
  });
  await drop(page, `${world}.tar`);
  await page.getByText(/Sending large\.tar: \d\d? MiB of/).waitFor();
  await page.getByRole("button", { name: "Stop sending" }).click();
  await page.getByText("Stopped sending").waitFor();
  await page.reload();
  await page.getByRole("heading", { name: "Not finished" }).waitFor();
  await accessible(page);
  await session.send("Network.emulateNetworkConditions", {
    offline: false,
    latency: 0,
    downloadThroughput: -1,
    uploadThroughput: -1,
  });
  let created = 0;
  page.on("request", (r) => {
    if (r.method() === "POST" && r.url().endsWith("/uploads/")) created++;
  });
  await drop(page, `${world}.tar`);
  await page.getByText("Stored “Long Field”").waitFor();
  expect(created).toBe(0);
  await context.close();
});

/** Drops a real file, as a person's hand would; synthetic ones are ignored. */
test("a server is stopped and started from its page, by keyboard", async () => {
  const { page, context, errors } = await demo.page({ colorScheme: "dark" });
  await page.goto("/servers/terraces");
  const button = page.getByRole("button", { name: "Stop" });
  await button.waitFor();
  await button.focus();
  await page.keyboard.press("Enter");
  await page.locator('header [data-mark="stopped"]').waitFor();
  await accessible(page);
  await page.getByRole("button", { name: "Start" }).focus();
  await page.keyboard.press("Enter");
  await page.locator('header [data-mark="running"]').waitFor();
  await page.getByRole("tab", { name: "World" }).focus();
  await page.keyboard.press("ArrowRight");
  await page.keyboard.press("ArrowRight");
  await page.getByRole("log").getByText("ready on port").waitFor();
  await accessible(page);
  expect(errors).toEqual([]);
  await context.close();
});

test("a server is added, looked at and forgotten", async () => {
  const { page, context, errors } = await demo.page();
  const root = join(demo.data, "cold-frame");
  mkdirSync(join(root, "worlds"), { recursive: true });
  writeFileSync(join(root, "quarry.properties"), "world.folder=frame\nlisten.port=0\n");
  await page.getByRole("button", { name: "Add a server" }).click();
  await page.getByRole("heading", { name: "Add a server" }).waitFor();
  await page.getByText("Quarrymoss, plain").click();
  await page.getByLabel("Name of the server").fill("cold-frame");
  await page.getByLabel("Folder").fill(`${root}/nowhere`);
  await page.getByLabel("Start command").fill("sh -c 'sleep 1'");
  await accessible(page);
  await page.getByRole("button", { name: "Add the server" }).click();
  await page.getByRole("alert").getByText("is not an absolute path of a folder").waitFor();
  await page.getByLabel("Folder").fill(root);
  await page.getByRole("button", { name: "Add the server" }).click();
  await page.getByText("At its next start it would make a new one.").waitFor();
  await page.getByRole("tab", { name: "Fit" }).click();
  await page.locator('tbody[data-concern="active-world"]').getByText("blocks").waitFor();
  await page.getByRole("button", { name: "Forget this server" }).click();
  await page.getByRole("heading", { name: "Servers" }).waitFor();
  await page.getByRole("link", { name: "cold-frame" }).waitFor({ state: "detached" });
  expect(errors.filter((e) => !e.includes("422"))).toEqual([]);
  await context.close();
});

test("users are added, given a password and removed; games are shown", async () => {
  const { page, context, errors } = await demo.page();
  await page.getByRole("link", { name: "Users" }).click();
  await page.getByLabel("User name").fill("bryn");
  await page.getByLabel("New password").fill("leeks and marrows");
  await page.getByRole("button", { name: "Add the user" }).click();
  await page.getByRole("cell", { name: "bryn", exact: true }).waitFor();
  await page.getByLabel("New password").fill("marrows and leeks");
  await page.getByRole("button", { name: "Set the password" }).click();
  await page.getByText("Saved.").waitFor();
  await accessible(page);
  await page.getByRole("button", { name: "Remove bryn" }).click();
  await page.getByRole("cell", { name: "bryn", exact: true }).waitFor({ state: "detached" });
  await page.getByRole("link", { name: "Games" }).click();
  await page.getByText("Profile of Quarrymoss").click();
  await page.getByText("# Quarrymoss, block building").waitFor();
  await accessible(page);
  expect(errors).toEqual([]);
  await context.close();
});

test("a profile is sketched, checked while it is typed, tried, saved and taken out of use", async () => {
  const { page, context, errors } = await demo.page();
  await page.getByRole("link", { name: "Games" }).click();
  await page.getByRole("link", { name: "Write a profile" }).click();
  const server = join(demo.data, "servers", "low-marsh");
  const editor = page.getByRole("textbox", { name: "Profile" });
  await editor.waitFor();
  await page
    .getByLabel("A world", { exact: true })
    .fill(join(demo.data, "servers", "terraces", "worlds", "top-terrace"));
  await page.getByLabel("A server’s folder").fill(join(demo.data, "servers", "terraces"));
  await page.getByRole("button", { name: "Sketch a profile from them" }).click();
  await page.getByRole("heading", { name: "How sure the sketch is" }).waitFor();
  await editor.getByText("id: terraces").waitFor();
  await accessible(page);
  await page.getByRole("button", { name: "Try the profile" }).click();
  await page.getByRole("heading", { name: "What the profile reads" }).waitFor();
  await page.getByRole("cell", { name: "Top Terrace", exact: true }).waitFor();

  // A wrong key is told at its line, and cannot be saved.
  await editor.getByText("shape: folder").click();
  await page.keyboard.press("Home");
  const before = await editor.innerText();
  await page.keyboard.type("sort: x\n");
  await page.getByText('unknown field "sort"').first().waitFor();
  await page.locator(".cm-lint-marker-error").first().waitFor();
  expect(await page.getByRole("button", { name: "Save as the next version" }).isDisabled()).toBe(true);
  // What was typed slowly is taken back in several parts.
  for (let i = 0; i < 12 && (await editor.innerText()) !== before; i++)
    await page.keyboard.press("Control+z");
  await page.getByText("no complaints").waitFor();
  await page.getByRole("button", { name: "Save as the next version" }).click();
  await page.getByRole("heading", { name: "Terraces" }).waitFor();
  await page.getByText("version 1, saved by").waitFor();
  await page.getByText("Every version of terraces").click();
  await page.getByRole("button", { name: "Take it out of use" }).click();
  await page.getByRole("heading", { name: "Terraces" }).waitFor({ state: "detached" });

  // A shipped one is only overridden when told to.
  await page.getByRole("link", { name: "Edit the profile of Saltmarch" }).click();
  await editor.getByText("title: Saltmarch").click();
  await page.keyboard.press("End");
  await page.keyboard.type(" Bay");
  await page.getByRole("button", { name: "Save as the next version" }).click();
  await page.getByRole("alert").getByText("a profile of that id is there already").waitFor();
  await page.getByLabel("A server’s folder").fill(server);
  await page.getByText("Let it override the one that is there").click();
  await page.getByRole("button", { name: "Save as the next version" }).click();
  await page.getByText("over the one that ships").waitFor();
  await accessible(page);
  await page.getByRole("button", { name: "Take it out of use" }).click();
  await page.getByRole("heading", { name: "Saltmarch Bay" }).waitFor({ state: "detached" });
  expect(errors.filter((e) => !e.includes("409"))).toEqual([]);
  await context.close();
});

test("which source gives a setting, and what it beats, is shown; a world of a session is put", async () => {
  const { page, context, errors } = await demo.page();
  await page.goto("/servers/ridge-camp");
  await page.getByText("beaten: server.json line 3, /load").waitFor();
  await accessible(page);
  await page.goto("/change?kind=put&world=kettle-moraine&server=ridge-camp");
  const script = page.getByLabel("Change of launch.sh");
  await script.getByText("--load Kettle-Moraine").waitFor();
  expect(await script.locator("td.gone").textContent()).toContain("--load frostfall");
  await page.getByRole("button", { name: "Carry it out on ridge-camp" }).click();
  await page.locator('[data-mark="done"]').first().waitFor();
  await page.goto("/change?kind=put&world=sedge-landing&server=low-marsh");
  await page.getByText("finds an empty character", { exact: false }).waitFor();
  await page.locator("label.answer", { hasText: "strip" }).click();
  await page.getByText("You chose: leave all 2 behind", { exact: false }).waitFor();
  expect(errors).toEqual([]);
  await context.close();
});
