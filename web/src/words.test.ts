import { expect, test } from "vitest";
import { bytes, count, millis, quoted, splitCommand, when, shownName, someOf } from "./words";

test("sizes keep to binary units", () => {
  expect(bytes(0)).toBe("0 B");
  expect(bytes(1023)).toBe("1023 B");
  expect(bytes(1536)).toBe("1.5 KiB");
  expect(bytes(78 * 1024 ** 3)).toBe("78 GiB");
  expect(bytes(-1)).toBe("unknown");
});

test("durations below a second are in milliseconds", () => {
  expect(millis(45)).toBe("45 ms");
  expect(millis(1500)).toBe("1.5 s");
  expect(millis(-1)).toBe("not measured yet");
});

test("Go's zero time is no date", () => {
  expect(when("0001-01-01T00:00:00Z")).toBe("unknown");
  expect(when(undefined)).toBe("unknown");
  expect(when("2026-11-20T21:15:00Z")).toContain("2026");
});

test("a command is split as a shell would", () => {
  expect(splitCommand("./quarry serve .")).toEqual(["./quarry", "serve", "."]);
  expect(splitCommand(`server --logfile '' --name "a b" x"y z"`)).toEqual([
    "server",
    "--logfile",
    "",
    "--name",
    "a b",
    "xy z",
  ]);
  expect(splitCommand("  ")).toEqual([]);
});

test("counts and quotes", () => {
  expect(count(1, "file", "files")).toBe("1 file");
  expect(count(2000, "file", "files")).toBe("2,000 files");
  expect(quoted("Orchard ")).toBe("“Orchard ”");
});

test("a name is shown whatever it is made of", () => {
  expect(shownName("Gärten")).toBe("Gärten");
  expect(shownName(`G${String.fromCodePoint(0x10ffe4)}rten`)).toBe(String.raw`G\xe4rten`);
  expect(shownName("a\nb\u001b[2J\\")).toBe(String.raw`a\x0ab\x1b[2J\\`);
});

test("of many names the first are shown, and how many more there are", () => {
  expect(someOf([], 0)).toBe("");
  expect(someOf(["Ada", "Bryn"], 2)).toBe("Ada, Bryn");
  expect(someOf(["Ada"], 3001)).toBe("Ada and 3,000 others");
});
