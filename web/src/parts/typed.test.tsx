// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { ToType } from "./typed";

afterEach(cleanup);

const folder = { label: "world.folder", value: "Fen-Garden", spelled: "capital F, capital G, no blank" };

test("what is to be typed is spelled, and copied with a press", async () => {
  const writeText = vi.fn().mockResolvedValue(undefined);
  Object.assign(navigator, { clipboard: { writeText } });
  render(<ToType what={[folder]} />);
  screen.getByText("Fen-Garden");
  screen.getByText("capital F, capital G, no blank");
  fireEvent.click(screen.getByRole("button", { name: "Copy world.folder" }));
  await screen.findByRole("button", { name: "Copy world.folder: copied" });
  expect(writeText).toHaveBeenCalledWith("Fen-Garden");
});

test("where there is no clipboard the button says what to do", async () => {
  Object.assign(navigator, { clipboard: undefined });
  render(<ToType what={[folder]} />);
  fireEvent.click(screen.getByRole("button", { name: "Copy world.folder" }));
  await screen.findByText("Mark it and copy it");
});
