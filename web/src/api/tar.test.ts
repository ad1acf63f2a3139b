// @vitest-environment node
import { execFileSync } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { expect, test } from "vitest";
import { record, tarOf } from "./tar";

test("what is packed is unpacked by tar, names of any length and script included", async () => {
  const dir = mkdtempSync(join(tmpdir(), "reshard-tar-"));
  const deep = `fen/${"deep/".repeat(30)}end`;
  const entries = [
    ["fen/heart", "beats"],
    ["fen/Gärten/Ünde.txt", "x".repeat(1000)],
    [deep, "y".repeat(512)],
    ["fen/empty", ""],
  ] as const;
  const blob = tarOf(
    entries.map(([path, text]) => ({
      path,
      file: new File([text], "f", { lastModified: 1_750_000_000_000 }),
    })),
  );
  expect(blob.size % 512).toBe(0);
  writeFileSync(join(dir, "a.tar"), Buffer.from(await blob.arrayBuffer()));
  execFileSync("tar", ["-xf", "a.tar"], { cwd: dir });
  for (const [path, text] of entries) expect(readFileSync(join(dir, path), "utf8")).toBe(text);
  rmSync(dir, { recursive: true });
});

test("a pax record counts itself", () => {
  expect(record("path", "a")).toBe("9 path=a\n");
  for (const value of ["a", "é", "x".repeat(88), "x".repeat(89), "x".repeat(90), "x".repeat(990)]) {
    const r = record("path", value);
    expect(new TextEncoder().encode(r).length).toBe(Number(r.split(" ")[0]));
  }
});
