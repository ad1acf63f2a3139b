import { Link } from "@tanstack/react-router";
import { useState } from "react";
import styled from "styled-components";
import type { Copy } from "../api/client";
import { when } from "../words";
import { Button, Switch } from "./controls";
import { copyPicture, Muted, Panel, Picture } from "./layout";

const Row = styled.ol`
  display: flex;
  gap: 0.6rem;
  overflow-x: auto;
  padding: 0.3rem 0.1rem 0.6rem;
  li {
    flex: none;
    width: 8.6rem;
    display: grid;
    gap: 0.25rem;
    align-content: start;
    font-size: 0.88rem;
  }
`;

/** How many copies are shown before a person asks for all. */
const fewShown = 12;

/** A world through time: its copies with their pictures, and what changed between any two. */
export function WorldLine({ copies }: { copies: Copy[] }) {
  const [all, setAll] = useState(false);
  const [picked, setPicked] = useState<string[]>([]);
  const line = copies
    .filter((c) => !c.asideAt)
    .toSorted((a, b) => (a.createdAt < b.createdAt ? -1 : 1))
    .slice(all ? 0 : -fewShown);
  if (copies.length < 2) return null;
  const [before, after] = line.filter((c) => picked.includes(c.id));
  const pick = (id: string, on: boolean) =>
    setPicked((old) => (on ? [...old, id].slice(-2) : old.filter((o) => o !== id)));
  return (
    <Panel>
      <h2>Time line</h2>
      <Row
        tabIndex={0}
        aria-label="Copies, the oldest first"
      >
        {line.map((c, i) => {
          const last = line[i - 1];
          return (
            <li key={c.id}>
              <Picture
                size={128}
                src={c.drawn ? copyPicture(c.id, 256) : undefined}
                of={c.facts.title}
              />
              <strong>{when(c.createdAt)}</strong>
              <span>
                {c.kind}
                {c.server && ` of ${c.server}`}
                {c.pinned && ", pinned"}
              </span>
              {last && (
                <Link
                  to="/compare"
                  search={{ before: last.id, after: c.id }}
                >
                  What changed
                </Link>
              )}
              <Switch
                isSelected={picked.includes(c.id)}
                onChange={(on) => pick(c.id, on)}
                aria-label={`Compare the copy of ${when(c.createdAt)}`}
              >
                compare
              </Switch>
            </li>
          );
        })}
      </Row>
      {before && after ? (
        <p>
          <Link
            to="/compare"
            search={{ before: before.id, after: after.id }}
          >
            What changed from {when(before.createdAt)} to {when(after.createdAt)}
          </Link>
        </p>
      ) : (
        <Muted>Pick two to see what changed between them.</Muted>
      )}
      {copies.length > fewShown && (
        <Button onPress={() => setAll(!all)}>{all ? "Show the latest only" : "Show all"}</Button>
      )}
    </Panel>
  );
}
