import { execFileSync } from "node:child_process";
import { cpSync, rmSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, test } from "vitest";
import { Demo } from "./demo";

// Draws the console's pages for docs/screenshots from the demo's data. Run with
// make screenshots.
let demo: Demo;
beforeAll(async () => {
  demo = await Demo.start();
});
afterAll(async () => {
  await demo?.stop();
});

const out = process.env["SHOTS"] ?? join(import.meta.dirname, "../../docs/screenshots");

test("the console's pages", async () => {
  const { page, context } = await demo.page();
  const shot = async (name: string) => {
    await page.waitForTimeout(300);
    await page.screenshot({ path: join(out, `console-${name}.png`) });
  };
  await shot("servers");
  await page.goto("/servers/north-plot");
  await page.getByText("“Winter Beds”").first().waitFor();
  await shot("server");
  // Another state of a world of the library, as it was played on.
  const run = (program: string, ...args: string[]) =>
    execFileSync(program, args, { env: { ...process.env, RESHARD_CONFIG: join(demo.data, "client.json") } });
  const reshard = join(import.meta.dirname, "../../bin/reshard");
  const played = join(demo.data, "played");
  run("unzip", "-q", join(demo.data, "samples", "fen-garden.zip"), "-d", played);
  const fen = join(played, "from Ada", "My Saves", "Fen-Garden");
  for (const gone of ["t.-6.-6", "t.-6.-5"]) rmSync(join(fen, "ground", `${gone}.qt`));
  for (const [from, to] of [
    ["t.0.0", "t.6.2"],
    ["t.1.0", "t.6.3"],
    ["t.1.1", "t.7.3"],
    ["t.3.3", "t.2.-3"],
  ])
    cpSync(join(fen, "ground", `${from}.qt`), join(fen, "ground", `${to}.qt`));
  run(reshard, "landmarks", "add", "fen-garden", "red roof by the well", "--at", "40 / -30");
  run(
    reshard,
    "worlds",
    "change",
    "fen-garden",
    "--tag",
    "members",
    "--note",
    "Ada's garden of two years; the north bank is not hers.",
  );
  await page.goto("/library/fen-garden");
  await page.getByText("144 tiles explored").waitFor();
  await shot("world");
  run(reshard, "send", fen);
  await page.goto("/compare?before=fen-garden&after=fen-garden-2");
  await page.getByText("as they were:").waitFor();
  await page.waitForTimeout(500);
  await shot("compare");
  run(reshard, "worlds", "set-aside", "fen-garden-2");
  await page.goto("/library");
  await page.getByText("“Fen Garden”").waitFor();
  await shot("library");
  await page.goto("/change?kind=put&world=orchard&server=north-plot");
  await page.getByLabel("Another folder name").waitFor();
  await shot("fit-choose");
  await page.goto("/bring?world=fen-garden");
  await page.getByText("fits, settings change with it").nth(3).waitFor();
  await shot("bring");
  await page.goto("/games/edit?game=");
  await page
    .getByLabel("A world", { exact: true })
    .fill(join(demo.data, "servers", "terraces", "worlds", "top-terrace"));
  await page.getByLabel("A server’s folder").fill(join(demo.data, "servers", "terraces"));
  await page.getByRole("button", { name: "Sketch a profile from them" }).click();
  await page.getByRole("heading", { name: "How sure the sketch is" }).waitFor();
  await shot("profile");
  await page.goto("/change?kind=put&world=fen-garden&server=north-plot");
  await page.getByRole("cell", { name: "world.folder=Fen-Garden", exact: true }).scrollIntoViewIfNeeded();
  await shot("plan");
  await page.getByRole("button", { name: "Carry it out on north-plot" }).click();
  await page.locator('[data-mark="done"]').first().waitFor();
  await page.getByText("the server is ready").waitFor();
  await shot("changeover");
  await page.goto("/");
  await page.getByRole("heading", { name: "Lately" }).waitFor();
  await shot("home");
  // Three pages on a phone, side by side in one picture.
  await page.setViewportSize({ width: 390, height: 800 });
  const phones: string[] = [];
  for (const [at, seen] of [
    ["/change?kind=put&world=fen-garden&server=terraces", page.getByRole("figure", { name: "Now and then" })],
    ["/servers", page.getByRole("row", { name: "north-plot" })],
    ["/library", page.getByText("“Fen Garden”")],
  ] as const) {
    await page.goto(at);
    await seen.first().waitFor();
    await page.waitForTimeout(600);
    phones.push((await page.screenshot()).toString("base64"));
  }
  const beside = await context.newPage();
  await beside.setViewportSize({ width: 1290, height: 830 });
  await beside.setContent(
    `<body style="margin:0;padding:15px;display:flex;gap:30px;justify-content:center;background:#8d9990">${phones
      .map((p) => `<img width="390" height="800" src="data:image/png;base64,${p}">`)
      .join("")}</body>`,
  );
  await beside.screenshot({ path: join(out, "console-phone.png") });
  await beside.close();
  await page.setViewportSize({ width: 1280, height: 800 });
  run(reshard, "rules", "add", "north-plot", "--at", "30 4 * * *", "--zone", "Europe/Lisbon", "--yes");
  run(reshard, "backup", "north-plot", "--note", "before the harvest");
  await page.goto("/servers/north-plot?tab=backups");
  await page.getByText("before the harvest").first().waitFor();
  await page.getByText("good", { exact: false }).first().waitFor();
  await shot("backups");
  await context.close();
});
