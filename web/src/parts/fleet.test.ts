import { expect, test } from "vitest";
import type { Backup, Changeover, Report, Server, World } from "../api/client";
import { ago } from "../words";
import { emblemOf } from "./emblem";
import { goings } from "./finder";
import { moments } from "./happened";
import { soonOf } from "./soon";
import { inView, viewOf } from "./view";

const server = (name: string, more: Partial<Server> = {}) =>
  ({
    name,
    game: "quarrymoss",
    kind: "plain",
    host: "local",
    root: "",
    state: "running",
    active: "",
    ...more,
  }) as Server;
const world = (name: string, game = "quarrymoss") => ({ name, title: name, game }) as World;

test("a view finds, groups and orders servers, and is read from an address without trust", () => {
  const all = [
    server("b", { host: "moor", since: "2026-01-02T00:00:00Z" }),
    server("a", { since: "2026-01-01T00:00:00Z" }),
    server("c", { state: "stopped" }),
  ];
  const names = (view: Parameters<typeof inView>[1]) =>
    inView(all, view).map(([g, l]) => [g, l.map((s) => s.name)]);
  expect(names({})).toEqual([["", ["b", "a", "c"]]]);
  expect(names({ by: "host" })).toEqual([
    ["local", ["a", "c"]],
    ["moor", ["b"]],
  ]);
  expect(names({ sort: "since" })).toEqual([["", ["b", "a", "c"]]]);
  expect(names({ sort: "state" })).toEqual([["", ["b", "a", "c"]]]);
  expect(names({ q: "moor RUNNING" })).toEqual([["", ["b"]]]);
  expect(viewOf({ q: "x", by: "nonsense", sort: 7 })).toEqual({ q: "x", by: undefined, sort: undefined });
});

test("a few letters find what can be put where, and only onto servers of its game", () => {
  const servers = [server("north"), server("south"), server("camp", { game: "emberlode" })];
  const worlds = [world("fen"), world("kettle", "emberlode")];
  const says = (words: string) => goings(words, servers, worlds).map((g) => g.says);
  expect(says("put fen nor")).toEqual(["Put fen onto north"]);
  expect(says("put fen camp")).toEqual([]);
  expect(says("put kettle camp")).toEqual(["Put kettle onto camp"]);
  expect(says("log nor")).toEqual(["Log of north"]);
  expect(goings("put fen north", servers, worlds)[0]?.to).toBe("/change?kind=put&server=north&world=fen");
  expect(says("")).toContain("Home");
});

const changeover = (id: number, at: string, more: Partial<Changeover> = {}) =>
  ({
    id,
    kind: "put",
    state: "done",
    createdAt: at,
    title: "put",
    createdBy: "ada",
    ...more,
  }) as Changeover;
const backup = (id: number, begun: string, more: Partial<Backup> = {}) =>
  ({ id, begun, state: "done", good: true, bytes: 1, ...more }) as Backup;

test("what happened on a server is one line in time, backups and changeovers together", () => {
  const line = moments(
    [
      changeover(1, "2026-01-01T00:00:00Z"),
      changeover(2, "2026-01-04T00:00:00Z", { unproven: ["x"] }),
      changeover(3, "2026-01-05T00:00:00Z", { state: "drafted" }),
      changeover(4, "2026-01-06T00:00:00Z", { kind: "backup" as Changeover["kind"] }),
    ],
    [backup(1, "2026-01-02T00:00:00Z"), backup(2, "2026-01-03T00:00:00Z", { good: false })],
  );
  expect(line.map((m) => `${m.key} ${m.mark} ${m.word}`)).toEqual([
    "changeover 2 done, not proven done, not proven",
    "backup 2 choose backup",
    "backup 1 done backup",
    "changeover 1 done done",
  ]);
});

test("an emblem is the same for the same name, its own, and alike on both sides", () => {
  expect(emblemOf("Old Quay")).toEqual(emblemOf("Old Quay"));
  const seen = new Set(Array.from({ length: 500 }, (_, i) => JSON.stringify(emblemOf(`world ${i}`))));
  expect(seen.size).toBe(500);
  for (const [x, y, second] of emblemOf("Fen").fields)
    expect(emblemOf("Fen").fields).toContainEqual([7 - x, y, second]);
});

test("a moment is told in one unit", () => {
  const now = Date.parse("2026-11-28T12:00:00Z");
  expect(ago(now - 20_000, now)).toBe("just now");
  expect(ago(now - 5 * 60_000, now)).toBe("5 minutes ago");
  expect(ago(now - 26 * 3600_000, now)).toBe("yesterday");
  expect(ago(now + 3 * 3600_000, now)).toBe("in 3 hours");
});

test("versions behind and allowances nearly used up are told before they bite", () => {
  const fleet = [
    server("north", { version: "2.4.0" }),
    server("south", { version: "2.10.0" }),
    server("hall", { version: "3.0", kind: "terrace" }),
    server("new", { version: "" }),
  ];
  const reports = [
    { server: "north", bytes: 95 },
    { server: "south", bytes: 10 },
  ] as Report[];
  const soon = soonOf(fleet, reports, { north: { bytes: 100 }, south: { bytes: 100 } });
  expect(soon.map((s) => s.key)).toEqual(["version north", "allowance north"]);
  expect(soon[0]?.says).toContain("south has 2.10.0");
  expect(soon[1]?.says).toContain("95 %");
});
