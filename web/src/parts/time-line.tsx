import { useState } from "react";
import styled from "styled-components";
import { count, when } from "../words";

export type Moment = { at: string; keeps: boolean; says: string };

const Frame = styled.figure`
  margin: 0.5rem 0 0.3rem;
  overflow-x: auto;
  svg {
    display: block;
    width: 100%;
    min-width: 20rem;
    max-width: 46rem;
    height: auto;
  }
  line {
    stroke: var(--line-strong);
  }
  text {
    fill: var(--muted);
    font-size: 11px;
  }
  /* On a phone all of it is drawn half as large. */
  @media (max-width: 46rem) {
    text {
      font-size: 19px;
    }
  }
  .keeps {
    fill: var(--accent);
  }
  .goes {
    stroke: var(--blocks);
    stroke-width: 1.6;
    fill: none;
  }
  figcaption {
    color: var(--muted);
    font-size: 0.88rem;
  }
`;

const hour = 3600_000;
const ticks: [string, number][] = [
  ["1 hour", hour],
  ["1 day", 24 * hour],
  ["1 week", 7 * 24 * hour],
  ["1 month", 30 * 24 * hour],
  ["1 year", 365 * 24 * hour],
  ["3 years", 3 * 365 * 24 * hour],
];
const wide = 640;
const least = hour / 4;

/** Backups by their age, the youngest at the right: the further back, the closer together the years stand. */
export function TimeLine({ moments, label }: Props) {
  const [now] = useState(() => Date.now());
  const ages = moments.map((m) => Math.max(least, now - Date.parse(m.at)));
  const oldest = Math.max(2 * 24 * hour, ...ages) * 1.15;
  const place = (age: number) =>
    wide - 14 - (wide - 28) * (Math.log(Math.max(age, least) / least) / Math.log(oldest / least));
  const kept = moments.filter((m) => m.keeps).length;
  const goes = moments.length - kept;
  const says = `${label}: ${count(kept, "is kept", "are kept")}${goes > 0 ? `, ${count(goes, "goes", "go")}` : ""}`;
  // Those that fall onto each other stand above each other.
  const levels = new Map<number, number>();
  return (
    <Frame>
      <svg
        viewBox={`0 0 ${wide} 74`}
        aria-hidden="true"
      >
        <line
          x1="10"
          x2={wide - 10}
          y1="52"
          y2="52"
        />
        {ticks
          .filter(([, age]) => age < oldest)
          .map(([name, age]) => (
            <g key={name}>
              <line
                x1={place(age)}
                x2={place(age)}
                y1="49"
                y2="56"
              />
              <text
                x={place(age)}
                y="69"
                textAnchor="middle"
              >
                {name}
              </text>
            </g>
          ))}
        <text
          x={wide - 12}
          y="69"
          textAnchor="end"
        >
          now
        </text>
        {moments.map((m, i) => {
          const x = Math.round(place(ages[i] ?? 0) / 6) * 6;
          const level = levels.get(x) ?? 0;
          levels.set(x, level + 1);
          if (level > 5) return null;
          const y = 45 - level * 7;
          return m.keeps ? (
            <circle
              key={m.at}
              className="keeps"
              cx={x}
              cy={y}
              r="2.7"
            >
              <title>{`${when(m.at)}: ${m.says}`}</title>
            </circle>
          ) : (
            <path
              key={m.at}
              className="goes"
              d={`M${x - 2.5} ${y - 2.5}l5 5M${x + 2.5} ${y - 2.5}l-5 5`}
            >
              <title>{`${when(m.at)}: ${m.says}`}</title>
            </path>
          );
        })}
      </svg>
      <figcaption>{says}.</figcaption>
    </Frame>
  );
}

type Props = { moments: Moment[]; label: string };
