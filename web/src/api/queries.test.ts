import { QueryClient } from "@tanstack/react-query";
import { expect, test, vi } from "vitest";
import { api, type ServerFacts } from "./client";
import { queries } from "./queries";
import { takeIn } from "./stream";

const facts = (seenAt: string, state: string) =>
  ({
    server: { name: "far", seenAt, state, revision: "1" },
    facts: { worlds: [] },
  }) as unknown as ServerFacts;

test("what the stream tells while a server is asked for is not undone by the older answer", async () => {
  const client = new QueryClient();
  const waiting: ((came: ServerFacts) => void)[] = [];
  vi.spyOn(api, "server").mockImplementation(() => new Promise((done) => waiting.push(done)));
  const answer = (came: ServerFacts) => waiting.pop()?.(came);
  const state = () => client.getQueryData(queries.server("far").queryKey)?.server.state;
  for (const known of [undefined, "stopped"]) {
    client.clear();
    if (known) {
      const first = client.fetchQuery(queries.server("far"));
      answer(facts("2026-11-28T06:45:50Z", known));
      await first;
    }
    const asking = client.fetchQuery(queries.server("far")); // a host far away takes its time
    takeIn(client, { kind: "server", value: facts("2026-11-28T06:45:57.5Z", "starting").server });
    answer(facts("2026-11-28T06:45:57.25Z", "stopped"));
    await asking;
    expect(state()).toBe("starting");
  }
  const asking = client.fetchQuery(queries.server("far"));
  answer(facts("2026-11-28T06:45:59Z", "running"));
  await asking;
  expect(state()).toBe("running");
});
