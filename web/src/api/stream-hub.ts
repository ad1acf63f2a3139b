/**
 * One stream of server-sent events for all pages of a browser: HTTP/1.1 allows six connections to a service
 * in all, so each tab with one of its own would stall the fourth. The hub runs in a shared worker, or in the
 * page itself where a browser has none.
 */

/** What the service tells; "lost" and "open" are about the stream itself. */
export type Happening =
  | { kind: "open"; again: boolean }
  | { kind: "lost" }
  | { kind: "server" | "gone" | "changeover" | "arrivals" | "backup" | "alerts"; value: unknown }
  | { kind: "log"; value: { server: string; lines: unknown[] } };

/** What a page asks of the hub. */
export type Asking = { logs: string[] } | { alive: true } | { bye: true };

export type Listener = (what: Happening) => void;

const told = ["server", "gone", "changeover", "arrivals", "backup", "alerts", "log"] as const;

/** How long a page may be silent before it is taken for closed: timers of a hidden tab run once a minute. */
const silence = 200_000;

export class StreamHub {
  private readonly pages = new Map<Listener, { logs: string[]; heard: number; opened: boolean }>();
  private source: EventSource | undefined;
  private address = "";
  private timer: ReturnType<typeof setTimeout> | undefined;

  constructor(private readonly open: (address: string) => EventSource = (a) => new EventSource(a)) {}

  join(page: Listener): void {
    const opened = this.source?.readyState === 1;
    this.pages.set(page, { logs: [], heard: Date.now(), opened });
    if (opened) page({ kind: "open", again: false });
    this.settle();
  }

  hear(page: Listener, what: Asking): void {
    const known = this.pages.get(page);
    if ("bye" in what) this.pages.delete(page);
    else
      this.pages.set(page, {
        logs: "logs" in what ? what.logs : (known?.logs ?? []),
        heard: Date.now(),
        opened: known?.opened ?? false,
      });
    this.settle();
  }

  /** Opens the stream anew when something else is asked for, in a moment: pages come and go together. */
  private settle(): void {
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.reopen(), 30);
  }

  private reopen(): void {
    for (const [page, { heard }] of this.pages) {
      if (Date.now() - heard > silence) this.pages.delete(page);
    }
    if (this.pages.size === 0) {
      this.source?.close();
      this.source = undefined;
      this.address = "";
      return;
    }
    const logs = [...new Set([...this.pages.values()].flatMap((p) => p.logs))].toSorted().slice(0, 8);
    const query = new URLSearchParams({
      servers: "true",
      changeovers: "true",
      arrivals: "true",
      backups: "true",
      last: "300",
    });
    for (const name of logs) query.append("log", name);
    const address = `/api/v1/events?${query.toString()}`;
    if (address === this.address && this.source?.readyState !== 2) return;
    this.source?.close();
    this.address = address;
    this.source = this.open(address);
    // The browser calls its own event so too; the service's says that from here on everything is told.
    this.source.addEventListener("open", (e) => e instanceof MessageEvent && this.begun());
    this.source.addEventListener("error", () => this.lost());
    for (const kind of told) {
      this.source.addEventListener(kind, (e) =>
        this.tell({ kind, value: JSON.parse((e as MessageEvent<string>).data) } as Happening),
      );
    }
  }

  /** Each page is told for itself whether it has missed something: one that has just come has not. */
  private begun(): void {
    for (const [page, known] of this.pages) {
      page({ kind: "open", again: known.opened });
      known.opened = true;
    }
  }

  /** The browser reconnects by itself, unless the service has refused: then it is tried again later. */
  private lost(): void {
    this.tell({ kind: "lost" });
    if (this.source?.readyState === 2) {
      clearTimeout(this.timer);
      this.timer = setTimeout(() => this.reopen(), 3000);
    }
  }

  private tell(what: Happening): void {
    for (const [page, { logs }] of this.pages) {
      if (what.kind !== "log" || logs.includes(what.value.server)) page(what);
    }
  }
}
