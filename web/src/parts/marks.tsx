import styled from "styled-components";

type Tone = "fits" | "adjust" | "choose" | "blocks" | "muted" | "accent";
type Shape =
  "tick" | "arrow" | "question" | "cross" | "play" | "square" | "ring" | "half" | "back" | "pause" | "dot";

const paths: Record<Shape, string> = {
  tick: "M3 8.5 6.5 12 13 4.5",
  arrow: "M2.5 8h10M9 4.5 12.5 8 9 11.5",
  question: "M5.5 6a2.5 2.5 0 1 1 3.6 2.2C8.2 8.700 8 9.200 8 10M8 12.500v.5",
  cross: "M4 4l8 8M12 4l-8 8",
  play: "M5 3.500v9l7-4.500z",
  square: "M4.500 4.500h7v7h-7z",
  ring: "M8 3a5 5 0 1 0 0 10A5 5 0 0 0 8 3",
  half: "M8 3a5 5 0 1 0 0 10zM8 3a5 5 0 0 1 0 10",
  back: "M6.500 4 3 7.500 6.500 11M3 7.500h6a3.500 3.500 0 0 1 0 7",
  pause: "M6 4v8M10 4v8",
  dot: "M8 7.500v1",
};

const meanings: Record<string, { shape: Shape; tone: Tone }> = {
  fits: { shape: "tick", tone: "fits" },
  adjust: { shape: "arrow", tone: "adjust" },
  choose: { shape: "question", tone: "choose" },
  blocks: { shape: "cross", tone: "blocks" },
  running: { shape: "play", tone: "fits" },
  starting: { shape: "ring", tone: "adjust" },
  stopping: { shape: "ring", tone: "adjust" },
  stopped: { shape: "square", tone: "muted" },
  exited: { shape: "cross", tone: "blocks" },
  unknown: { shape: "question", tone: "choose" },
  unreachable: { shape: "cross", tone: "blocks" },
  drafted: { shape: "dot", tone: "muted" },
  staging: { shape: "ring", tone: "accent" },
  waiting: { shape: "question", tone: "choose" },
  switching: { shape: "half", tone: "adjust" },
  proving: { shape: "half", tone: "accent" },
  done: { shape: "tick", tone: "fits" },
  "done, not proven": { shape: "tick", tone: "choose" },
  undoing: { shape: "back", tone: "adjust" },
  undone: { shape: "back", tone: "muted" },
  held: { shape: "pause", tone: "blocks" },
  planned: { shape: "dot", tone: "muted" },
  intended: { shape: "half", tone: "accent" },
};

const Pill = styled.span<{ $tone: Tone; $quiet?: boolean }>`
  display: inline-flex;
  align-items: center;
  gap: 0.35em;
  white-space: nowrap;
  font-weight: 600;
  font-size: 0.9rem;
  color: var(--${(p) => p.$tone});
  padding: ${(p) => (p.$quiet ? "0" : "0.08rem 0.55rem 0.08rem 0.4rem")};
  background: ${(p) => (p.$quiet || p.$tone === "muted" ? "transparent" : `var(--${p.$tone}-soft)`)};
  border-radius: 4px;
  svg {
    width: 1.05em;
    height: 1.05em;
    flex: none;
    fill: none;
    stroke: currentColor;
    stroke-width: 2;
    stroke-linecap: round;
    stroke-linejoin: round;
  }
`;

/** A state or verdict: always a shape and a word. */
export function Mark({ of, quiet, children }: { of: string; quiet?: boolean; children?: React.ReactNode }) {
  const m = meanings[of] ?? { shape: "dot" as Shape, tone: "muted" as Tone };
  return (
    <Pill
      $tone={m.tone}
      $quiet={quiet}
      data-mark={of}
    >
      <svg
        viewBox="0 0 16 16"
        aria-hidden="true"
      >
        <path d={paths[m.shape]} />
      </svg>
      <span>{children ?? of}</span>
    </Pill>
  );
}

/** How a changeover stands, in a word: one that is done and of which something could not be seen is told apart. */
export const standing = (c: { state: string; unproven?: string[] }) =>
  c.unproven?.length ? "done, not proven" : c.state;
