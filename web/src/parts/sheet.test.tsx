// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen, within } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import type { Row, Sheet } from "../api/client";
import { FitSheet } from "./sheet";

afterEach(cleanup);

const row = (r: Partial<Row>): Row => ({
  concern: "seed",
  title: "Seed",
  world: { text: "1" },
  settings: { text: "" },
  server: { text: "2", from: "server.json" },
  verdict: "fits",
  say: "Said.",
  options: [],
  ...r,
});

const sheet = (rows: Row[]): Sheet["sheet"] => ({ rows, verdict: "choose", folder: "fen" });

const titles = () => [...document.querySelectorAll("tbody")].map((b) => b.dataset["concern"]);

test("what is broken stands first, whatever the order it came in", () => {
  render(
    <FitSheet
      choices={{}}
      sheet={sheet([
        row({ concern: "a", title: "A" }),
        row({ concern: "b", title: "B", verdict: "adjust" }),
        row({ concern: "c", title: "C", verdict: "choose" }),
        row({ concern: "d", title: "D", verdict: "blocks" }),
      ])}
    />,
  );
  expect(titles()).toEqual(["d", "c", "b"]);
  fireEvent.click(screen.getByRole("button", { name: "Show what fits" }));
  expect(titles()).toEqual(["d", "c", "b", "a"]);
});

test("a verdict is a shape and a word, and an empty cell says so", () => {
  render(
    <FitSheet
      choices={{}}
      sheet={sheet([row({ verdict: "blocks" })])}
    />,
  );
  expect(document.querySelector('[data-mark="blocks"] svg')).not.toBeNull();
  expect(screen.getByText("blocks")).toBeDefined();
  expect(screen.getByLabelText("says nothing")).toBeDefined();
  expect(screen.getByText("server.json")).toBeDefined();
});

test("an answer keeps the answers that were given before", () => {
  const onChoose = vi.fn();
  const options = [{ choice: "mods", answer: "go-on", say: "Go on." }];
  render(
    <FitSheet
      choices={{ "folder-name": "fen" }}
      onChoose={onChoose}
      sheet={sheet([row({ concern: "mods", title: "Mods", verdict: "choose", options })])}
    />,
  );
  fireEvent.click(screen.getByRole("radio"));
  expect(onChoose).toHaveBeenCalledWith({ "folder-name": "fen", mods: "go-on" });
});

test("a folder name of one's own can be given, and only where a name is asked for", () => {
  const onChoose = vi.fn();
  const options = [{ choice: "folder-name", answer: "Orchard", say: "Use it." }];
  const { container } = render(
    <FitSheet
      choices={{}}
      onChoose={onChoose}
      sheet={sheet([
        row({ concern: "characters", verdict: "choose", options }),
        row({ concern: "mods", verdict: "choose", options: [{ choice: "mods", answer: "go-on", say: "" }] }),
      ])}
    />,
  );
  expect(screen.getAllByLabelText("Another folder name")).toHaveLength(1);
  const part = container.querySelector<HTMLElement>('[data-concern="characters"]');
  if (!part) throw new Error("no row");
  expect(within(part).getByRole<HTMLButtonElement>("button").disabled).toBe(true);
  fireEvent.change(screen.getByLabelText("Another folder name"), { target: { value: "apples" } });
  fireEvent.click(within(part).getByRole("button"));
  expect(onChoose).toHaveBeenCalledWith({ "folder-name": "apples" });
});

test("without somebody to answer nothing can be answered", () => {
  render(
    <FitSheet
      choices={{}}
      sheet={sheet([row({ verdict: "choose", options: [{ choice: "x", answer: "y", say: "z" }] })])}
    />,
  );
  expect(screen.queryByRole("radio")).toBeNull();
});

test("what does not apply is named in a line, and what a person may do is a list", () => {
  render(
    <FitSheet
      choices={{}}
      sheet={sheet([
        row({
          concern: "mods",
          title: "Mods",
          verdict: "choose",
          todo: ["Install sheds 2.", "Install butts 1."],
        }),
        row({ concern: "flags", title: "Flags beside it", idle: true }),
        row({ concern: "locks", title: "Lock files", idle: true, verdict: "choose" }),
      ])}
    />,
  );
  expect(screen.getByText("Nothing to compare: flags beside it.")).toBeDefined();
  expect([...document.querySelectorAll("tbody")].map((b) => b.dataset["concern"])).toEqual(["mods", "locks"]);
  expect(screen.getAllByRole("listitem").map((i) => i.textContent)).toEqual([
    "Install sheds 2.",
    "Install butts 1.",
  ]);
});

test("an answer that was given can be changed", () => {
  const onChoose = vi.fn();
  const options = [
    { choice: "players", answer: "keep", say: "Keep." },
    { choice: "players", answer: "strip", say: "Leave." },
  ];
  render(
    <FitSheet
      choices={{ players: "keep" }}
      onChoose={onChoose}
      sheet={sheet([row({ concern: "players", verdict: "adjust", chosen: "keep", options })])}
    />,
  );
  const radios = screen.getAllByRole<HTMLInputElement>("radio");
  expect(radios.map((r) => r.checked)).toEqual([true, false]);
  fireEvent.click(radios[1]!);
  expect(onChoose).toHaveBeenCalledWith({ players: "strip" });
});
