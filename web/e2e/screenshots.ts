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
  await page.getByRole("tab", { name: "Fit" }).click();
  await page.getByText("exactly that name").waitFor();
  await shot("server-fit");
  await page.goto("/library");
  await page.getByText("“Fen Garden”").waitFor();
  await shot("library");
  await page.goto("/library/fen-garden");
  await page.getByText("nested: caverns").waitFor();
  await shot("world");
  await page.goto("/change?kind=put&world=orchard&server=north-plot");
  await page.getByLabel("Another folder name").waitFor();
  await shot("fit-choose");
  await page.goto("/change?kind=put&world=old-glasshouse&server=north-plot");
  await page.getByText("newer than the server's").waitFor();
  await shot("fit-blocked");
  await page.goto("/change?kind=put&world=sedge-landing&server=low-marsh");
  await page.getByText("finds an empty character", { exact: false }).waitFor();
  await shot("fit-players");
  await page.goto("/games/edit?game=");
  await page.getByLabel("A world", { exact: true }).fill(join(demo.data, "servers", "terraces", "worlds", "top-terrace"));
  await page.getByLabel("A server’s folder").fill(join(demo.data, "servers", "terraces"));
  await page.getByRole("button", { name: "Sketch a profile from them" }).click();
  await page.getByRole("heading", { name: "How sure the sketch is" }).waitFor();
  await shot("profile");
  await page.goto("/change?kind=put&world=fen-garden&server=north-plot");
  await page.getByRole("button", { name: "Make the plan" }).click();
  await page.getByRole("cell", { name: "world.folder=Fen-Garden", exact: true }).scrollIntoViewIfNeeded();
  await shot("plan");
  await page.getByRole("button", { name: "Carry it out on north-plot" }).click();
  await page.locator('[data-mark="done"]').first().waitFor();
  await page.getByText("the server is ready").waitFor();
  await shot("changeover");
  await page.goto("/servers/north-plot");
  await page.getByRole("tab", { name: "Set aside" }).click();
  await page.getByRole("button", { name: "Remove north-plot/", exact: false }).first().click();
  await shot("aside");
  await page.goto("/change?kind=put&world=fen-garden&server=terraces");
  await page.getByText("Stage it now, and switch when I say so").click();
  await page.getByRole("button", { name: "Make the plan" }).click();
  await page.getByRole("button", { name: "Carry it out on terraces" }).click();
  await page.getByText("Waiting for you").waitFor();
  await shot("waiting");
  await page.getByRole("button", { name: "Cancel" }).click();
  await page.locator('[data-mark="undone"]').first().waitFor();
  await context.close();
});
