import { useLayoutEffect, useRef, useState, type ReactNode } from "react";
import { ProgressBar } from "react-aria-components";
import styled from "styled-components";
import { Problem } from "../api/client";
import { Button } from "./controls";
import { Emblem } from "./emblem";

export const Page = styled.main`
  max-width: 1240px;
  margin: 0 auto;
  padding: 1.4rem 1.6rem 4rem;
  display: grid;
  gap: 1.2rem;
  grid-template-columns: minmax(0, 1fr);
`;

export const Head = styled.header`
  display: flex;
  align-items: center;
  gap: 1rem;
  flex-wrap: wrap;
  min-height: 2.35rem;
  h1 {
    margin-right: auto;
  }
`;

export const Panel = styled.section`
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 7px;
  padding: 1rem 1.15rem;
  box-shadow: var(--shadow);
  min-width: 0;
  & > h2 {
    margin-bottom: 0.65rem;
  }
`;

const Bar = styled.div`
  height: 9px;
  background: var(--line);
  border-radius: 5px;
  overflow: hidden;
  margin: 0.45rem 0;
  div {
    height: 100%;
    background: var(--accent);
  }
  @media (forced-colors: active) {
    border: 1px solid;
    div {
      forced-color-adjust: none;
      background: Highlight;
    }
  }
`;

/** How much of something is done, with what is said above and below the bar. */
export function Progress({
  label,
  done,
  all,
  above,
  below,
}: {
  label: string;
  done: number;
  all: number;
  above?: ReactNode;
  below?: ReactNode;
}) {
  return (
    <ProgressBar
      aria-label={label}
      value={(100 * done) / Math.max(1, all)}
    >
      {({ percentage }) => (
        <>
          {above && <p>{above}</p>}
          <Bar>
            <div style={{ width: `${percentage}%` }} />
          </Bar>
          {below && <p>{below}</p>}
        </>
      )}
    </ProgressBar>
  );
}

export const Muted = styled.p`
  color: var(--muted);
`;

const Bones = styled.div`
  display: grid;
  gap: 0.6rem;
  div {
    height: 1.1rem;
    border-radius: 4px;
    background: var(--line);
  }
  @media (forced-colors: active) {
    div {
      border: 1px solid GrayText;
    }
  }
  div:nth-child(2) {
    width: 80%;
  }
  div:nth-child(3) {
    width: 60%;
  }
  @media (prefers-reduced-motion: no-preference) {
    animation: breathe 1.6s ease-in-out infinite alternate;
  }
  @keyframes breathe {
    to {
      opacity: 0.45;
    }
  }
`;

/** The shape of what is still to come, and in words what is done meanwhile. */
export function Loading({ say }: { say: string }) {
  return (
    <Panel aria-busy="true">
      <output className="unseen">{say} …</output>
      <Bones aria-hidden="true">
        <div />
        <div />
        <div />
      </Bones>
    </Panel>
  );
}

/** Things told one below the other: how each stands, what it is, and when. */
export const Told = styled.ul`
  display: grid;
  gap: 0.55rem;
  li {
    display: grid;
    grid-template-columns: 8rem minmax(0, 1fr) auto;
    gap: 0.2rem 0.9rem;
    align-items: baseline;
    overflow-wrap: anywhere;
  }
  small {
    color: var(--muted);
  }
  li > :first-child {
    justify-self: start;
  }
  @media (max-width: 46rem) {
    li {
      grid-template-columns: minmax(0, 1fr) auto;
    }
    li > :nth-child(2) {
      grid-row: 2;
      grid-column: 1 / -1;
    }
  }
`;

/** The way back up; it holds a link. */
export const Crumb = styled.p`
  font-size: 0.92rem;
  a {
    color: var(--muted);
    text-decoration: none;
  }
  a:hover {
    text-decoration: underline;
  }
`;

const Rows = styled.table`
  width: 100%;
  border-collapse: collapse;
  font-variant-numeric: tabular-nums;
  th {
    text-align: left;
    font-weight: 600;
    color: var(--muted);
    font-size: 0.87rem;
    padding: 0.3rem 0.8rem 0.4rem 0;
    border-bottom: 1px solid var(--line-strong);
    white-space: nowrap;
  }
  td {
    padding: 0.55rem 0.8rem 0.55rem 0;
    border-bottom: 1px solid var(--line);
    vertical-align: top;
  }
  tr:last-child td {
    border-bottom: 0;
  }
  td:last-child,
  th:last-child {
    padding-right: 0;
  }
  @media (max-width: 46rem) {
    &,
    tbody {
      display: block;
    }
    thead {
      position: absolute;
      width: 1px;
      height: 1px;
      overflow: hidden;
      clip-path: inset(50%);
    }
    tr {
      display: grid;
      gap: 0.15rem;
      padding: 0.6rem 0;
      border-bottom: 1px solid var(--line);
    }
    tr:last-child {
      border-bottom: 0;
    }
    td {
      display: grid;
      grid-template-columns: 6.5rem minmax(0, 1fr);
      gap: 0.6rem;
      padding: 0;
      border: 0;
      overflow-wrap: anywhere;
    }
    td > * {
      justify-self: start;
      text-align: left;
    }
    td[data-label]::before {
      content: attr(data-label);
      color: var(--muted);
      font-size: 0.87rem;
    }
    td:empty {
      display: none;
    }
  }
`;

/** A table; on a phone each row is a card in which every cell says what it is of. */
export function Table({ children }: { children: ReactNode }) {
  const at = useRef<HTMLTableElement>(null);
  useLayoutEffect(() => {
    const table = at.current;
    if (!table) return;
    const heads = [...table.querySelectorAll("thead th")].map((h) =>
      h.querySelector(".unseen") ? "" : (h.textContent ?? ""),
    ); // what a button says needs no label
    table.setAttribute("role", "table"); // what is laid out as a grid is else no table any more for a screen reader
    table.querySelectorAll("tbody tr").forEach((row) => {
      row.setAttribute("role", "row");
      row.querySelectorAll("td").forEach((cell, i) => {
        cell.setAttribute("role", "cell");
        if (heads[i]) cell.setAttribute("data-label", heads[i]);
      });
    });
  });
  return <Rows ref={at}>{children}</Rows>;
}

export const Facts = styled.dl`
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 0.28rem 1.2rem;
  dt {
    color: var(--muted);
  }
  dd {
    overflow-wrap: anywhere;
  }
  small {
    color: var(--muted);
    margin-left: 0.5rem;
  }
`;

const Trouble = styled.div`
  border: 1px solid var(--blocks);
  border-left-width: 5px;
  background: var(--blocks-soft);
  border-radius: 6px;
  padding: 0.7rem 0.95rem;
  p + p {
    margin-top: 0.25rem;
  }
  strong {
    color: var(--blocks);
  }
`;

/** An error as a person needs it: what happened, and what to do next; again tries once more. */
export function Failure({ error, again }: { error: unknown; again?: () => void }) {
  const next = error instanceof Problem ? error.next : "";
  return (
    <Trouble role="alert">
      <p>
        <strong>✕</strong> {error instanceof Error ? error.message : String(error)}
      </p>
      {next && <p>{next}</p>}
      {again && (
        <p>
          <Button onPress={again}>Try again</Button>
        </p>
      )}
    </Trouble>
  );
}

/** What the service has answered, in each of its states: still to come, failed or not allowed, and there. */
export function Answer<T>({
  of,
  waiting,
  children,
}: {
  of: { data: T | undefined; isError: boolean; error: unknown; refetch: () => Promise<unknown> };
  waiting: string;
  children: (data: T) => ReactNode;
}) {
  return (
    <>
      {of.isError && (
        <Failure
          error={of.error}
          again={() => void of.refetch()}
        />
      )}
      {of.data === undefined ? !of.isError && <Loading say={waiting} /> : children(of.data)}
    </>
  );
}

const Drawn = styled.img`
  flex: none;
  border-radius: 6px;
  border: 1px solid var(--line-strong);
  object-fit: contain;
  image-rendering: pixelated;
  background: var(--ground);
`;

/**
 * A world from above, as its game's profile draws it; an emblem of its own where it draws none. of is what it is
 * called for people, by what its emblem is made from: the same name everywhere.
 */
export function Picture({
  size = 52,
  src,
  of,
  by,
}: {
  size?: number;
  src?: string;
  of?: string;
  by?: string;
}) {
  const [none, setNone] = useState("");
  if (!src || none === src)
    return (
      <Emblem
        of={by ?? of ?? ""}
        size={size}
      />
    );
  return (
    <Drawn
      src={src}
      width={size}
      height={size}
      alt={of ? `${of} from above` : ""}
      loading="lazy"
      onError={() => setNone(src)}
    />
  );
}

export const copyPicture = (copy: string | undefined, side = 0) =>
  copy ? `/api/v1/worlds/${copy}/picture${side ? `?side=${side}` : ""}` : undefined;
export const serverPicture = (server: string, world: string, at: string | undefined) =>
  `/api/v1/servers/${server}/picture?${new URLSearchParams({ world, at: at ?? "" }).toString()}`;
