import { expect, test } from "vitest";
import { paceText } from "./arrivals";
import { held } from "./map";
import { around, boxOf } from "./then-and-now";
import { textOf } from "../pages/world";

test("a map keeps its middle within the picture and never leaves all of it behind", () => {
  const m = { width: 100, height: 50 };
  expect(held({ x: -10, y: 80, zoom: 0.1 }, m, 2)).toEqual({ x: 0, y: 50, zoom: 2 });
  expect(held({ x: 10, y: 20, zoom: 99 }, m, 2)).toEqual({ x: 10, y: 20, zoom: 24 });
  expect(held({ x: 1, y: 1, zoom: 40 }, m, 40)).toEqual({ x: 1, y: 1, zoom: 40 });
});

test("a pace tells rate and time left in a unit that fits", () => {
  expect(paceText(0, 100, 5000)).toBe("");
  expect(paceText(1 << 20, 11 << 20, 1000)).toBe(", 1.0 MiB/s, 10 s left");
  expect(paceText(1 << 20, 301 << 20, 1000)).toBe(", 1.0 MiB/s, 5 min left");
  expect(paceText(1 << 20, 7201 * 2 ** 20, 1000)).toBe(", 1.0 MiB/s, 2.0 h left");
});

test("bytes that are no text are not shown as if they were", () => {
  expect(textOf(new TextEncoder().encode("Grüße"))).toBe("Grüße");
  expect(textOf(new Uint8Array([1, 0, 2]))).toBeUndefined();
  expect(textOf(new Uint8Array([0xff, 0xfe, 0x41]))).toBeUndefined();
});

test("two pictures of a world lie on each other where its places are the same", () => {
  const m = { width: 10, height: 10, scale: 2, down: 2, tiles: 1, landmarks: [], players: [] };
  const a = boxOf({ ...m, left: -10, top: 4 });
  const b = boxOf({ ...m, left: 6, top: -8, width: 4 });
  expect(a).toEqual({ x: -10, y: 4, width: 20, height: 20 });
  expect(around(a, b)).toEqual({ x: -10, y: -8, width: 24, height: 32 });
  expect(boxOf({ ...m, left: 0, top: 30, down: -2 }).y).toBe(-30); // z grows to the north: up is less
});
