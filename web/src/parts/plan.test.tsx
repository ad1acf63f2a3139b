// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, expect, test } from "vitest";
import type { Plan } from "../api/client";
import { Diff, PlanSteps, ProofList, windowText } from "./plan";

afterEach(cleanup);

const plan = {
  steps: [
    { kind: "stage", say: "Stage.", switch: false },
    { kind: "stop", say: "Stop.", switch: true },
    { kind: "start", say: "Start.", switch: true },
    { kind: "prove", say: "Prove.", switch: false },
  ],
  window: { stopping: 20, ours: 50, starting: 1500 },
} as Plan;

test("the stop window is fenced in", () => {
  render(<PlanSteps plan={plan} />);
  const lines = screen.getAllByRole("listitem").map((l) => l.textContent);
  expect(lines).toEqual([
    "stageStage.",
    "Players are locked out from here",
    "stopStop.",
    "startStart.",
    "Players can join again",
    "proveProve.",
  ]);
});

const step = (state: "done" | "intended" | "planned", note?: string) => ({
  kind: "stop" as const,
  say: "x",
  switch: false,
  state,
  note,
  tookMs: 7,
});

test("states are told in words for people, notes with them", () => {
  render(
    <PlanSteps
      plan={plan}
      steps={[step("done"), step("intended", "Mind this."), step("planned"), step("planned")]}
    />,
  );
  expect(screen.getByText("under way")).toBeDefined();
  expect(screen.getByText("Mind this.", { exact: false })).toBeDefined();
  expect(screen.queryByText("intended")).toBeNull();
});

test("a diff stands side by side, what was taken beside what came", () => {
  render(
    <Diff
      file="a.properties"
      text={"--- a\n+++ a\n@@ -1 +1 @@\n-k=1\n+k=2\n+l=3\n same\n@@ -9 +9 @@\n-gone\n"}
    />,
  );
  const cells = [...screen.getByLabelText("Change of a.properties").querySelectorAll("tbody tr")].map((r) =>
    [...r.querySelectorAll("td")].map((c) => `${c.className}:${c.textContent}`),
  );
  expect(cells).toEqual([
    ["gone:k=1", "come:k=2"],
    [":", "come:l=3"],
    [":same", ":same"],
    [":…"],
    ["gone:gone", ":"],
  ]);
});

test("a check that fails says what was expected", () => {
  render(
    <ProofList
      proof={{
        checks: [
          { what: "seed", expected: "7", seen: "8", ok: false },
          { what: "ready", expected: "running", seen: "running", ok: true },
          { what: "account", expected: "every file", seen: "cannot be seen there", ok: false, unseen: true },
        ],
      }}
    />,
  );
  expect(screen.getByText("fails")).toBeDefined();
  expect(screen.getByText("expected 7")).toBeDefined();
  expect(screen.getByText("not seen")).toBeDefined();
  expect(screen.queryByText("expected running")).toBeNull();
});

test("an estimate says what it does not know", () => {
  expect(windowText(plan)).toBe("about 1.6 s: game stopping 20 ms, ours under 0.1 s, game starting 1.5 s");
  expect(windowText({ ...plan, window: { stopping: -1, ours: 50, starting: 3 } })).toContain(
    "not measured yet",
  );
});
