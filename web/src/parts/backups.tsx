import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { lazy, Suspense, useState } from "react";
import styled from "styled-components";
import { api, type Backup } from "../api/client";
import { queries } from "../api/queries";
import { bytes, dayOf, when } from "../words";
import { Allowance } from "./allowance";
import { Button } from "./controls";
import { copyPicture, Failure, Loading, Muted, Panel, Picture } from "./layout";
import { Mark } from "./marks";
import { Rules } from "./rules";
import { TimeLine } from "./time-line";

const Line = styled.li`
  display: grid;
  grid-template-columns: auto minmax(0, 1fr);
  gap: 0.3rem 0.9rem;
  padding: 0.7rem 0;
  border-bottom: 1px solid var(--line);
  &:last-child {
    border-bottom: 0;
  }
  .acts {
    grid-column: 2;
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
    align-items: center;
  }
`;

const fewShown = 8;

// A calendar is fetched when there is something to choose among.
const BackupDays = lazy(() => import("./backup-days"));

/** The backups of a server: made now or by rule, what each is worth, and the way back to it. */
export function ServerBackups({ server, held }: { server: string; held: boolean }) {
  const client = useQueryClient();
  const backups = useQuery(queries.backups(server));
  const [aside, setAside] = useState(false);
  const [all, setAll] = useState(false);
  const [day, setDay] = useState("");
  const gone = useQuery({ ...queries.backups(server, true), enabled: aside });
  const make = useMutation({
    mutationFn: () => api.makeBackup({ server }),
    onSettled: () => client.invalidateQueries({ queryKey: ["backups"] }),
  });
  if (backups.isError) return <Failure error={backups.error} />;
  const list = backups.data ?? [];
  const ofDay = list.filter((b) => dayOf(b.begun) === day);
  const shown = day ? ofDay : all ? list : list.slice(0, fewShown);
  const kept = list.filter((b) => b.state === "done");
  return (
    <div style={{ display: "grid", gap: "1.1rem" }}>
      <Panel>
        <p>
          <Button
            look="main"
            isDisabled={make.isPending || held}
            onPress={() => make.mutate()}
          >
            Back it up now
          </Button>{" "}
          <Muted as="span">
            People go on playing. The worlds, the settings and what the server is are stored.
          </Muted>
        </p>
        {make.isError && <Failure error={make.error} />}
      </Panel>
      <Rules server={server} />
      <Panel>
        <Allowance server={server} />
      </Panel>
      <Panel>
        <h2>What there is</h2>
        {kept.length > 0 && (
          <TimeLine
            label="By age"
            moments={kept.map((b) => ({ at: b.begun, keeps: true, says: b.why ?? b.says }))}
          />
        )}
        {list.length > fewShown && (
          <details>
            <summary>{day ? `Those of ${day}` : "Choose a day"}</summary>
            <Suspense fallback={<Loading say="Fetching the calendar" />}>
              <BackupDays
                backups={list}
                onChoose={setDay}
              />
            </Suspense>
            {day && <Button onPress={() => setDay("")}>All days</Button>}
          </details>
        )}
        {backups.isPending && <Muted>Looking …</Muted>}
        {backups.data?.length === 0 && <Muted>There is none yet.</Muted>}
        <ul aria-live="polite">
          {shown.map((b) => (
            <BackupLine
              key={b.id}
              backup={b}
            />
          ))}
        </ul>
        <p style={{ marginTop: "0.6rem" }}>
          {list.length > fewShown && (
            <>
              <Button onPress={() => setAll(!all)}>
                {all ? "Show the latest only" : `Show all ${list.length}`}
              </Button>{" "}
            </>
          )}
          <Button onPress={() => setAside(!aside)}>
            {aside ? "Hide what is set aside" : "Show what is set aside"}
          </Button>
        </p>
        {aside && gone.data?.length === 0 && <Muted>Nothing is set aside.</Muted>}
        {aside && (
          <ul>
            {gone.data?.map((b) => (
              <BackupLine
                key={b.id}
                backup={b}
              />
            ))}
          </ul>
        )}
      </Panel>
    </div>
  );
}

function BackupLine({ backup: b }: { backup: Backup }) {
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: (to: { pinned?: boolean; aside?: boolean }) => api.changeBackup(b.id, to),
    onSettled: () => client.invalidateQueries({ queryKey: ["backups"] }),
  });
  const last = b.worlds.at(-1);
  const state = b.state === "done" ? (b.good ? "done" : "choose") : b.state === "failed" ? "blocks" : b.state;
  const words: Record<string, string> = {
    done: b.good ? "good" : b.damage ? "damaged" : "not sure",
    failed: "failed",
    running: "being made",
    "gave-way": "gave way",
  };
  return (
    <Line>
      <Picture
        size={52}
        src={last && copyPicture(last.copy, 104)}
        of={last?.title}
      />
      <div>
        <p>
          <Mark of={b.state === "running" ? "staging" : b.state === "gave-way" ? "undone" : state}>
            {words[b.state]}
          </Mark>{" "}
          <strong>{when(b.begun)}</strong> · backup {b.id} · {b.rule ? `rule ${b.rule}` : b.by}
          {b.state === "done" && ` · ${bytes(b.bytes)}`}
          {b.pinned && " · pinned"}
        </p>
        <p>{b.says}</p>
        {b.note && <p>{b.note}</p>}
        {b.worlds.length > 0 && (
          <Muted>
            {b.worlds.map((w, i) => (
              <span key={w.world}>
                {i > 0 && ", "}
                <Link
                  to="/library/$world"
                  params={{ world: w.library }}
                >
                  {w.title || w.world}
                </Link>
                {w.asBefore && " (as before)"}
              </span>
            ))}
            {b.why && !b.asideAt && ` · kept: ${b.why}`}
            {b.asideAt && ` · set aside by ${b.asideBy}${b.goes ? `, goes on ${when(b.goes)}` : ""}`}
          </Muted>
        )}
        {b.failure?.next && <Muted>{b.failure.next}</Muted>}
      </div>
      {b.state === "done" && (
        <div className="acts">
          {!b.asideAt && (
            <Link
              to="/change"
              search={{ kind: "restore", server: b.server, backup: b.id }}
            >
              Go back to it …
            </Link>
          )}
          {!b.asideAt && (
            <Button
              isDisabled={change.isPending}
              onPress={() => change.mutate({ pinned: !b.pinned })}
            >
              {b.pinned ? "Take the pin off" : "Pin it"}
            </Button>
          )}
          {!b.pinned && (
            <Button
              isDisabled={change.isPending}
              onPress={() => change.mutate({ aside: !b.asideAt })}
            >
              {b.asideAt ? "Bring it back" : "Set it aside"}
            </Button>
          )}
        </div>
      )}
      {change.isError && <Failure error={change.error} />}
    </Line>
  );
}
