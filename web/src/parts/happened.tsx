import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { lazy, Suspense } from "react";
import type { Backup, Changeover, World } from "../api/client";
import { queries } from "../api/queries";
import { bytes, sentence } from "../words";
import { Failure, Loading, Muted, Panel, Told } from "./layout";
import { Mark, standing } from "./marks";
import { Since } from "./moment";
import type { State } from "./size-chart";

type Moment = {
  at: string;
  key: string;
  mark: string;
  word: string;
  changeover?: Changeover;
  backup?: Backup;
};

const backupMarks: Record<string, string> = {
  done: "done",
  doubtful: "choose",
  failed: "blocks",
  running: "staging",
  "gave-way": "undone",
};

/** What was done on a server, changeovers and backups together, the newest first. */
export function moments(changeovers: Changeover[], backups: Backup[]): Moment[] {
  const out: Moment[] = changeovers
    .filter((c) => c.state !== "drafted" && c.kind !== "backup")
    .map((c) => ({
      at: c.startedAt ?? c.createdAt,
      key: `changeover ${c.id}`,
      mark: standing(c),
      word: standing(c),
      changeover: c,
    }));
  for (const b of backups)
    out.push({
      at: b.begun,
      key: `backup ${b.id}`,
      mark: backupMarks[b.state === "done" && !b.good ? "doubtful" : b.state] ?? "drafted",
      word: "backup",
      backup: b,
    });
  return out.toSorted((a, b) => b.at.localeCompare(a.at));
}

// What draws is fetched with the first chart.
const SizeChart = lazy(() => import("./size-chart"));

/** The states of a server's worlds that are in the library, the oldest first. */
export function statesOf(server: string, worlds: World[]): State[] {
  return worlds
    .flatMap((w) => w.copies)
    .filter((c) => c.server === server)
    .map((c) => {
      const played = Date.parse(c.facts.lastPlayed);
      return { at: Date.parse(c.createdAt), bytes: c.bytes, played: played > 0 ? played : undefined };
    })
    .toSorted((a, b) => a.at - b.at);
}

/** How much of it is shown; the rest stands behind the tabs. */
const newest = 8;

export function Happened({ server }: { server: string }) {
  const changeovers = useQuery(queries.changeovers(server));
  const backups = useQuery(queries.backups(server));
  const worlds = useQuery(queries.worlds({ server }));
  if (changeovers.isError) return <Failure error={changeovers.error} />;
  if (backups.isError) return <Failure error={backups.error} />;
  const states = statesOf(server, worlds.data ?? []);
  const all = moments(changeovers.data ?? [], backups.data ?? []);
  return (
    <Panel>
      <h2>What happened here</h2>
      {changeovers.isPending && <Loading say="Reading what happened" />}
      {changeovers.data && all.length === 0 && (
        <Muted>
          Nothing yet. What changeovers and backups do here is told in this place, with how large the world
          was and when it was played.
        </Muted>
      )}
      {states.length > 1 && (
        <Suspense fallback={<Loading say="Drawing its size" />}>
          <SizeChart
            states={states}
            deeds={all.flatMap((m) =>
              m.changeover && m.mark === "done"
                ? [{ at: Date.parse(m.at), says: sentence(m.changeover.title) }]
                : [],
            )}
          />
        </Suspense>
      )}
      <Told>
        {all.slice(0, newest).map((m) => (
          <li key={m.key}>
            <Mark of={m.mark}>{m.word}</Mark>
            <span>
              {m.changeover && (
                <Link
                  to="/changeovers/$id"
                  params={{ id: String(m.changeover.id) }}
                >
                  {sentence(m.changeover.title)}
                </Link>
              )}
              {m.backup && (
                <Link
                  to="/servers/$server"
                  params={{ server }}
                  search={{ tab: "backups" }}
                >
                  {m.backup.note || m.backup.rule || "by hand"}
                  {m.backup.bytes > 0 && `, ${bytes(m.backup.bytes)}`}
                </Link>
              )}
            </span>
            <small>
              <Since at={m.at} />
              {m.changeover && `, ${m.changeover.createdBy}`}
            </small>
          </li>
        ))}
      </Told>
    </Panel>
  );
}

/** Whose changeover holds a server, and since when. */
export function Holder({ id }: { id: number }) {
  const held = useQuery(queries.changeover(id));
  const c = held.data;
  return (
    <Panel aria-live="polite">
      <Link
        to="/changeovers/$id"
        params={{ id: String(id) }}
      >
        Changeover {id}
      </Link>{" "}
      holds this server
      {c && (
        <>
          : {c.title}, by {c.createdBy}, begun <Since at={c.startedAt ?? c.createdAt} />
        </>
      )}
      .
    </Panel>
  );
}
