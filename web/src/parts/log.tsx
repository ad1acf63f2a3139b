import { useEffect, useRef, useState } from "react";
import styled from "styled-components";
import type { LogLine } from "../api/client";
import { stream } from "../api/stream";

const LogBox = styled.pre`
  margin: 0;
  height: 26rem;
  overflow: auto;
  background: var(--raised);
  border: 1px solid var(--line);
  border-radius: 5px;
  padding: 0.7rem 0.9rem;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
`;

/** The server's log as it grows; it keeps to the end unless somebody scrolls up. */
export function Log({ server, height }: { server: string; height?: string }) {
  const [lines, setLines] = useState<LogLine[]>();
  const box = useRef<HTMLPreElement>(null);
  const atEnd = useRef(true);
  useEffect(
    () =>
      stream.follow(server, (more) => {
        setLines((old) => [...(old ?? []), ...more].slice(-2000));
        requestAnimationFrame(() => {
          if (box.current && atEnd.current) box.current.scrollTop = box.current.scrollHeight;
        });
      }),
    [server],
  );
  return (
    <LogBox
      ref={box}
      tabIndex={0}
      role="log"
      aria-label={`Log of ${server}`}
      style={height ? { height } : undefined}
      onScroll={(e) => {
        const b = e.currentTarget;
        atEnd.current = b.scrollHeight - b.scrollTop - b.clientHeight < 30;
      }}
    >
      {!lines
        ? "Reading the log …"
        : lines.length === 0
          ? "The log is empty."
          : lines.map((l) => (l.printed ? "printed: " : "") + l.text).join("\n")}
    </LogBox>
  );
}
