import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { StreamHub, type Happening } from "./stream-hub";

/** A stream that says what it is told to say. */
class Fake extends EventTarget {
  static all: Fake[] = [];
  readyState = 0;
  constructor(readonly address: string) {
    super();
    Fake.all.push(this);
  }
  close(): void {
    this.readyState = 2;
  }
  begin(): void {
    this.readyState = 1;
    this.dispatchEvent(new Event("open")); // the browser's own
    this.say("open", []);
  }
  say(kind: string, value: unknown): void {
    this.dispatchEvent(new MessageEvent(kind, { data: JSON.stringify(value) }));
  }
}

const now = () => Fake.all.at(-1) as Fake;
const open = () => Fake.all.filter((f) => f.readyState !== 2);

beforeEach(() => {
  Fake.all = [];
  vi.useFakeTimers();
});
afterEach(() => vi.useRealTimers());

function page(hub: StreamHub) {
  const heard: Happening[] = [];
  const see = (what: Happening) => heard.push(what);
  hub.join(see);
  return { heard, see };
}

const hubOf = () => new StreamHub((address) => new Fake(address) as unknown as EventSource);

test("many pages have one stream, and each hears what changes", () => {
  const hub = hubOf();
  const pages = [page(hub), page(hub), page(hub)];
  vi.runAllTimers();
  expect(open()).toHaveLength(1);
  expect(now().address).toBe(
    "/api/v1/events?servers=true&changeovers=true&arrivals=true&backups=true&last=300",
  );
  now().begin();
  now().say("server", { name: "north" });
  for (const p of pages) {
    expect(p.heard).toEqual([
      { kind: "open", again: false },
      { kind: "server", value: { name: "north" } },
    ]);
  }
});

test("a log goes to the pages that want it, and the stream is opened anew for it", () => {
  const hub = hubOf();
  const [a, b] = [page(hub), page(hub)];
  vi.runAllTimers();
  hub.hear(a.see, { logs: ["south", "north"] });
  hub.hear(b.see, { logs: ["north"] });
  vi.runAllTimers();
  expect(open()).toHaveLength(1);
  expect(now().address).toContain("log=north&log=south");
  now().say("log", { server: "south", lines: [1] });
  expect(a.heard).toEqual([{ kind: "log", value: { server: "south", lines: [1] } }]);
  expect(b.heard).toEqual([]);
  const before = Fake.all.length;
  hub.hear(b.see, { logs: [] });
  vi.runAllTimers();
  expect(Fake.all, "somebody still wants it").toHaveLength(before);
  hub.hear(a.see, { logs: [] });
  vi.runAllTimers();
  expect(now().address).not.toContain("log=");
});

test("the last page that goes closes the stream; a silent one is taken for gone", () => {
  const hub = hubOf();
  const [a, b] = [page(hub), page(hub)];
  vi.runAllTimers();
  hub.hear(a.see, { bye: true });
  vi.runAllTimers();
  expect(open()).toHaveLength(1);
  vi.setSystemTime(Date.now() + 300_000);
  const c = page(hub);
  vi.runAllTimers();
  now().say("gone", "north");
  expect(b.heard).toEqual([]);
  expect(c.heard).toHaveLength(1);
  hub.hear(c.see, { bye: true });
  vi.runAllTimers();
  expect(open()).toHaveLength(0);
});

test("a page that has just come has missed nothing, though the stream is opened anew for it", () => {
  const hub = hubOf();
  const first = page(hub);
  vi.runAllTimers();
  now().begin();
  hub.hear(first.see, { bye: true });
  vi.runAllTimers();
  const second = page(hub);
  vi.runAllTimers();
  now().begin();
  expect(second.heard).toEqual([{ kind: "open", again: false }]);
});

test("what was lost is said, and that it is there again", () => {
  const hub = hubOf();
  const { heard } = page(hub);
  vi.runAllTimers();
  now().begin();
  now().dispatchEvent(new Event("error"));
  now().begin();
  expect(heard).toEqual([{ kind: "open", again: false }, { kind: "lost" }, { kind: "open", again: true }]);
  now().readyState = 2; // the service has refused: the browser gives up
  now().dispatchEvent(new Event("error"));
  vi.advanceTimersByTime(5000);
  expect(open(), "the hub does not").toHaveLength(1);
});
