import { expect, test } from "vitest";
import { archiveOf } from "./arrivals";
import type { Recognised } from "./client";

test("of a file that a session leaves behind only its beginning goes along", async () => {
  const entries = [
    ["saves/fen.001.ember", 100],
    ["saves/fen.009.ember", 1_000_000],
    ["saves/bog.001.ember", 50_000],
  ].map(([path, size]) => ({ path: String(path), file: new File(["x".repeat(Number(size))], "f") }));
  const world = {
    folders: [],
    world: { root: "saves", members: ["fen.001.ember"], leftOut: ["fen.009.ember"] },
  } as unknown as Recognised["worlds"][number];
  const text = await archiveOf(world, entries).text();
  expect(text).toContain("saves/fen.009.ember");
  expect(text).not.toContain("bog");
  expect(text.length).toBeLessThan(10_000);
});
