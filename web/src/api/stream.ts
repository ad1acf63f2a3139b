import type { QueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { Changeover, LogLine, Server, ServerFacts } from "./client";
import { toldKey } from "./queries";
import { StreamHub, type Asking, type Happening, type Listener } from "./stream-hub";

/** How many lines of a log are kept for who comes later. */
const mostHeard = 1000;

/** What a line is the next of: its run's log, or what was printed beside it. */
const of = (l: LogLine) => (l.printed ? `${l.run} printed` : l.run);

/** This page's end of the browser's stream. */
class Stream {
  private readonly listeners = new Set<Listener>();
  private readonly logs = new Map<string, { by: Set<(lines: LogLine[]) => void>; heard?: LogLine[] }>();
  private ask: ((what: Asking) => void) | undefined;

  /** Begins to listen; the same stream serves all pages. */
  start(): void {
    if (this.ask) return;
    const hear = (what: Happening) => {
      if (what.kind === "log") this.logged(what.value.server, what.value.lines as LogLine[]);
      this.listeners.forEach((l) => l(what));
    };
    if (typeof SharedWorker === "function") {
      const worker = new SharedWorker(new URL("./stream-worker.ts", import.meta.url), {
        type: "module",
        name: "reshard-stream",
      });
      worker.port.addEventListener("message", (m: MessageEvent<Happening>) => hear(m.data));
      worker.port.start();
      // A port to a worker has no origin to name.
      // oxlint-disable-next-line unicorn/require-post-message-target-origin
      this.ask = (what) => worker.port.postMessage(what);
    } else {
      const hub = new StreamHub();
      hub.join(hear);
      this.ask = (what) => hub.hear(hear, what);
    }
    const ask = this.ask;
    addEventListener("pagehide", () => ask({ bye: true }));
    addEventListener("pageshow", () => this.wanted());
    setInterval(() => ask({ alive: true }), 60_000);
  }

  listen(see: Listener): () => void {
    this.listeners.add(see);
    return () => this.listeners.delete(see);
  }

  /**
   * Follows a server's log: its last lines, none where there are none, then every new one, each once. What is followed
   * already is not asked for anew, so who comes later is shown what has been heard of it.
   */
  follow(server: string, see: (lines: LogLine[]) => void): () => void {
    const last = new Map<string, number>(); // by run: the end of the last line, of its log and of what was printed
    const take = (lines: LogLine[]) => {
      const fresh = lines.filter((l) => l.offset > (last.get(of(l)) ?? -1));
      for (const l of fresh) last.set(of(l), l.offset);
      if (fresh.length > 0 || lines.length === 0) see(fresh);
    };
    const followed = this.logs.get(server) ?? { by: new Set() };
    this.logs.set(server, followed);
    followed.by.add(take);
    if (followed.heard) take(followed.heard);
    this.wanted();
    return () => {
      followed.by.delete(take);
      // A page that is drawn anew leaves and comes at the same moment.
      setTimeout(() => {
        if (followed.by.size > 0 || this.logs.get(server) !== followed) return;
        this.logs.delete(server);
        this.wanted();
      });
    };
  }

  /** Shows lines of a log to all who follow it, and keeps the last of them. */
  private logged(server: string, lines: LogLine[]): void {
    const followed = this.logs.get(server);
    if (!followed) return;
    followed.heard = [...(followed.heard ?? []), ...lines].slice(-mostHeard);
    followed.by.forEach((take) => take(lines));
  }

  private wanted(): void {
    this.ask?.({ logs: [...this.logs.keys()] });
  }
}

export const stream = new Stream();

/** Takes what the service tells into what the pages know. */
export function takeIn(client: QueryClient, what: Happening): void {
  switch (what.kind) {
    case "open":
      if (what.again) {
        // What has changed meanwhile has not been told.
        for (const key of ["servers", "changeovers", "changeover", "arrivals", "backups", "alerts"]) {
          void client.invalidateQueries({ queryKey: [key] });
        }
      }
      return;
    case "server":
      return takeServer(client, what.value as Server);
    case "gone":
      client.setQueryData<Server[]>(["servers"], (list) => list?.filter((s) => s.name !== what.value));
      return;
    case "changeover":
      return takeChangeover(client, what.value as Changeover);
    case "arrivals":
      client.setQueryData(["arrivals"], what.value);
      return;
    case "alerts":
      client.setQueryData(["alerts"], what.value);
      return;
    case "backup":
      // What it means for others, and for the rules, the service works out.
      for (const key of ["backups", "rules", "report", "alerts"]) {
        void client.invalidateQueries({ queryKey: [key] });
      }
      return;
    case "lost":
    case "log":
      return;
  }
}

function takeServer(client: QueryClient, now: Server): void {
  // What was asked for before may still come, and is older.
  void client.cancelQueries({ queryKey: ["servers"], exact: true });
  client.setQueryData<Server[]>(["servers"], (list) => {
    if (!list) return list;
    const at = list.findIndex((s) => s.name === now.name);
    if (at < 0) return [...list, now].toSorted((a, b) => (a.name < b.name ? -1 : 1));
    return list.map((s, i) => (i === at ? now : s));
  });
  client.setQueryData<Server>(toldKey(now.name), now);
  const known = client.getQueryData<ServerFacts>(["servers", now.name]);
  if (!known) return;
  client.setQueryData<ServerFacts>(["servers", now.name], { ...known, server: now });
  if (known.server.revision !== now.revision) {
    void client.invalidateQueries({ queryKey: ["servers", now.name] });
  }
}

function takeChangeover(client: QueryClient, now: Changeover): void {
  void client.cancelQueries({ queryKey: ["changeover", now.id] });
  client.setQueryData(["changeover", now.id], now);
  for (const [key, list] of client.getQueriesData<Changeover[]>({ queryKey: ["changeovers"] })) {
    if (list?.some((c) => c.id === now.id)) {
      client.setQueryData<Changeover[]>(
        key,
        list.map((c) => (c.id === now.id ? now : c)),
      );
    } else {
      void client.invalidateQueries({ queryKey: key, exact: true });
    }
  }
  if (!now.progress) {
    void client.invalidateQueries({ queryKey: ["worlds"] });
    void client.invalidateQueries({ queryKey: ["aside", now.server] });
  }
}

/** Whether the service is being heard; "" as long as it is, or has not been lost for long. */
export function useLost(): boolean {
  const [lost, setLost] = useState(false);
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout> | undefined;
    const end = stream.listen((what) => {
      clearTimeout(timer);
      if (what.kind === "lost") timer = setTimeout(() => setLost(true), 4000);
      else setLost(false);
    });
    return () => {
      clearTimeout(timer);
      end();
    };
  }, []);
  return lost;
}
