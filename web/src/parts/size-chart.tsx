import { AxisBottom, AxisLeft } from "@visx/axis";
import { scaleLinear, scaleTime } from "@visx/scale";
import { LinePath } from "@visx/shape";
import { useState } from "react";
import styled from "styled-components";
import { bytes, count, day } from "../words";
import { useNarrow } from "./narrow";

/** A state of a server's world that was stored: when, how large, and when it was played last, as milliseconds since 1970. */
export type State = { at: number; bytes: number; played: number | undefined };
/** Something that was done to the server, at a moment in milliseconds since 1970. */
export type Deed = { at: number; says: string };

const Frame = styled.figure`
  margin: 0 0 0.9rem;
  svg {
    display: block;
    width: 100%;
    height: auto;
    overflow: visible;
  }
  text {
    fill: var(--muted);
    font-family: var(--text);
    font-size: 11px;
  }
  .visx-axis-line,
  .visx-axis-tick line {
    stroke: var(--line-strong);
  }
  .size {
    fill: none;
    stroke: var(--accent);
    stroke-width: 2;
  }
  .state {
    fill: var(--accent);
  }
  .played {
    fill: var(--adjust);
  }
  .deed {
    stroke: var(--choose);
    stroke-width: 1.5;
    stroke-dasharray: 3 2;
  }
  figcaption {
    color: var(--muted);
    font-size: 0.9rem;
    display: flex;
    flex-wrap: wrap;
    gap: 0.2rem 1.2rem;
  }
  figcaption svg {
    display: inline;
    width: 1rem;
    height: 1rem;
    vertical-align: -3px;
  }
`;

const height = 190;
const inset = { left: 64, right: 14, top: 12, bottom: 44 };
const aDay = 86_400_000;

/** The days on which somebody played last, as far as stored states tell; each day once, in order. */
export function playedDays(states: State[]): number[] {
  const days = states.flatMap((s) => (s.played === undefined ? [] : [Math.floor(s.played / aDay) * aDay]));
  return [...new Set(days)].toSorted((a, b) => a - b);
}

/** How large a server's world was over time, when it was played, and what was done to it. */
export default function SizeChart({ states, deeds }: { states: State[]; deeds: Deed[] }) {
  const [now] = useState(() => Date.now());
  const narrow = useNarrow();
  const width = narrow ? 420 : 880;
  const days = playedDays(states);
  const first = Math.min(...states.map((s) => s.at), ...days, ...deeds.map((d) => d.at), now - aDay);
  const largest = Math.max(...states.map((s) => s.bytes));
  const x = scaleTime({ domain: [first, now], range: [inset.left, width - inset.right] });
  const y = scaleLinear({
    domain: [0, largest * 1.15],
    range: [height - inset.bottom, inset.top],
    nice: true,
  });
  const floor = height - inset.bottom;
  const last = states.at(-1);
  return (
    <Frame>
      <svg
        viewBox={`0 0 ${width} ${height}`}
        aria-hidden="true"
      >
        <AxisLeft
          scale={y}
          left={inset.left}
          numTicks={3}
          tickFormat={(v) => bytes(Number(v))}
          tickLabelProps={{ textAnchor: "end", dx: -4, dy: 4 }}
        />
        <AxisBottom
          scale={x}
          top={floor}
          numTicks={narrow ? 3 : 5}
          tickFormat={(v) => day(Number(v), now - first)}
          tickLabelProps={{ textAnchor: "middle", dy: 16 }}
        />
        {deeds.map((d) => (
          <line
            key={`${d.at} ${d.says}`}
            className="deed"
            x1={x(d.at)}
            x2={x(d.at)}
            y1={inset.top}
            y2={floor}
          >
            <title>{d.says}</title>
          </line>
        ))}
        <LinePath
          className="size"
          data={states}
          x={(s) => x(s.at)}
          y={(s) => y(s.bytes)}
        />
        {states.map((s) => (
          <circle
            key={s.at}
            className="state"
            cx={x(s.at)}
            cy={y(s.bytes)}
            r="3.5"
          >
            <title>{bytes(s.bytes)}</title>
          </circle>
        ))}
        {days.map((d) => (
          <rect
            key={d}
            className="played"
            x={x(d) - 3}
            y={floor + 4}
            width="6"
            height="6"
            transform={`rotate(45 ${x(d)} ${floor + 7})`}
          />
        ))}
      </svg>
      <figcaption>
        <span>
          {last && `${bytes(last.bytes)} when it was stored last; `}
          {count(states.length, "stored state", "stored states")}
        </span>
        <span>
          <svg
            viewBox="0 0 16 16"
            aria-hidden="true"
          >
            <rect
              className="played"
              x="5"
              y="5"
              width="7"
              height="7"
              transform="rotate(45 8 8)"
            />
          </svg>{" "}
          played on {count(days.length, "day", "days")} that they tell of
        </span>
        {deeds.length > 0 && <span>┆ {count(deeds.length, "changeover", "changeovers")}</span>}
      </figcaption>
    </Frame>
  );
}
