import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import styled from "styled-components";
import { api, type Asks, type Changeover } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
import { DespiteSigns } from "../parts/despite-signs";
import {
  Answer,
  copyPicture,
  Crumb,
  Failure,
  Head,
  Muted,
  Page,
  Panel,
  Picture,
  Progress,
} from "../parts/layout";
import { Mark, standing } from "../parts/marks";
import { PlanView, ProofList } from "../parts/plan";
import { bytes, millis, sentence, when } from "../words";
import { Log } from "../parts/log";
import { ToType } from "../parts/typed";

const Big = styled.p`
  font-size: 1.35rem;
  font-weight: 650;
  font-variant-numeric: tabular-nums;
`;

/** Counts on from what the service has told once, in milliseconds: its clock may say something else than this one. */
function Clock({ told, over }: { told: number; over: boolean }) {
  const [since, setSince] = useState(0);
  useEffect(() => {
    if (over) return;
    const begun = performance.now();
    const timer = setInterval(() => setSince(performance.now() - begun), 100);
    return () => clearInterval(timer);
  }, [over]);
  return <>{((told + since) / 1000).toFixed(1)} s</>;
}

/** What does not answer is waited for until a person says otherwise. */
function Leave({ id }: { id: number }) {
  const client = useQueryClient();
  const leave = useMutation({
    mutationFn: () => api.act(id, "leave"),
    onSuccess: () => client.invalidateQueries({ queryKey: ["changeover", id] }),
  });
  return (
    <>
      <Button
        isDisabled={leave.isPending || leave.isSuccess}
        onPress={() => leave.mutate()}
      >
        {leave.isSuccess ? "It ends its last try …" : "Wait no longer"}
      </Button>
      {leave.isError && <Failure error={leave.error} />}
    </>
  );
}

/** What a person is to do at a server in people's hands, and their word that it is done. */
function ByHand({ server, asks }: { server: string; asks?: Asks }) {
  const client = useQueryClient();
  const seen = useQuery(queries.server(server)).data?.server;
  const say = useMutation({
    mutationFn: (what: "sayStopped" | "sayStoppedDespiteSigns" | "sayStarted") => api[what](server),
    onSettled: () => client.invalidateQueries({ queryKey: ["servers"] }),
  });
  const now = asks?.what ? asks : seen?.asked;
  const unknown = !now && seen?.control?.by === "hand" && seen.state === "unknown";
  if (!now && !unknown) return null;
  return (
    <>
      {now && <Big>{now.say}</Big>}
      {now?.type && <ToType what={now.type} />}
      {now && <Muted style={{ marginTop: "0.4rem" }}>{now.watch}</Muted>}
      {unknown && <p>Does {server} run? Only people can see it.</p>}
      <p style={{ display: "flex", gap: "0.6rem", flexWrap: "wrap", marginTop: "0.6rem" }}>
        {now?.what !== "stop" && (
          <Button
            look="main"
            isDisabled={say.isPending}
            onPress={() => say.mutate("sayStarted")}
          >
            It runs: I have started it
          </Button>
        )}
        {now?.what !== "start" && (
          <Button
            look={now ? "main" : undefined}
            isDisabled={say.isPending}
            onPress={() => say.mutate("sayStopped")}
          >
            It is down: I have stopped it
          </Button>
        )}
      </p>
      {say.isError && <Failure error={say.error} />}
      <DespiteSigns say={say} />
    </>
  );
}

/** How fast bytes move, and how long the rest takes at that. */
function rate(done: number, total: number, sinceMs: number): string {
  const took = sinceMs / 1000;
  if (done === 0 || took < 0.3) return "";
  const speed = done / took;
  return `, ${bytes(speed)}/s${total > done ? `, ${Math.ceil((total - done) / speed)} s left` : ""}`;
}

function Under({ c }: { c: Changeover }) {
  const p = c.progress;
  if (!p) return null;
  return (
    <Panel aria-live="polite">
      <h2>{p.going === "back" ? "Going back" : c.state === "waiting" ? "Waiting for you" : "Under way"}</h2>
      <p>{p.say}</p>
      {(p.stepKind === "stage" || p.stepKind === "copy") && p.going === "forward" && (
        <Progress
          label={p.stepKind === "stage" ? "Staging" : "Copying"}
          done={p.bytes}
          all={p.totalBytes}
          below={
            <>
              {bytes(p.bytes)} of {bytes(p.totalBytes)}
              {p.files > 0 && `, ${p.files} of ${p.totalFiles} files`}
              {rate(p.bytes, p.totalBytes, p.sinceMs)}. Players still play.
            </>
          }
        />
      )}
      {p.stoppedAt && p.asks?.what !== "stop" && (
        <Big>
          Players locked out for{" "}
          <Clock
            key={p.lockedOutMs}
            told={p.lockedOutMs}
            over={Boolean(p.readyAt)}
          />
        </Big>
      )}
      <ByHand
        server={p.asks?.server || c.server}
        asks={p.asks}
      />
      {p.waiting && (
        <p>
          ‖ {p.waiting} <Leave id={c.id} />
        </p>
      )}
    </Panel>
  );
}

const Ended = styled.div`
  display: flex;
  gap: 1.1rem;
  align-items: center;
  margin-bottom: 0.8rem;
`;

/** What runs now is worth a backup: the next thing to do, where no rule makes any. */
function NoRule({ server }: { server: string }) {
  const rules = useQuery(queries.rules(server));
  if (rules.data?.length !== 0) return null;
  return (
    <p>
      Nothing backs {server} up by itself yet:{" "}
      <Link
        to="/servers/$server"
        params={{ server }}
        search={{ tab: "backups" }}
      >
        add a rule
      </Link>
      .
    </p>
  );
}

/** What became of it, in words. */
function Outcome({ c }: { c: Changeover }) {
  if (c.state === "done") {
    return (
      <Panel>
        <Ended>
          {c.copy && (
            <Picture
              size={112}
              src={copyPicture(c.copy, 224)}
              of={c.title}
              by={c.copy}
            />
          )}
          <div>
            <Big as="h2">{c.unproven ? "Done, not proven" : "Done"}</Big>
            <p>{sentence(c.title)}</p>
            {c.running && !c.unproven && <Muted>The world is running: confirmed.</Muted>}
          </div>
        </Ended>
        {c.unproven && (
          <>
            <p>Not seen:</p>
            <ul>
              {c.unproven.map((what) => (
                <li key={what}>{what}.</li>
              ))}
            </ul>
            <p>
              Join and look: that completes it.{c.landmarks?.length ? " Tick below what you have found." : ""}
            </p>
          </>
        )}
        {c.window && (
          <p>
            Players were locked out for <b>{millis(c.window.totalMs)}</b>: game stopping{" "}
            {millis(Math.max(0, c.window.stoppingMs))}, ours {millis(c.window.oursMs)}, game starting{" "}
            {millis(c.window.startingMs)}. {c.window.why}
          </p>
        )}
        {c.join && c.lasting && !c.plan.expect.placed && (
          <p>
            Go and look: <code>{c.join}</code> {c.joinNote && <Muted as="span">({c.joinNote})</Muted>}
          </p>
        )}
        {!c.lasting && c.copy && (
          <p>
            <a
              href={`/api/v1/worlds/${c.copy}/archive`}
              download
            >
              Download it
            </a>{" "}
            to play it alone: realms inside the world, as the game's own program takes it. The copy stays in
            the library.
          </p>
        )}
        {c.lasting && <NoRule server={c.server} />}
        {c.plan.then && (
          <p>
            The first start is made.{" "}
            <Link
              to="/change"
              search={{ kind: c.plan.then.kind as "put", world: c.plan.then.world, server: c.server }}
            >
              Go on with what you wanted
            </Link>
            .
          </p>
        )}
        {c.later && c.later.length > 0 && (
          <p>
            To take it back, undo what came after it first:{" "}
            {c.later.map((id) => (
              <Link
                key={id}
                to="/changeovers/$id"
                params={{ id: String(id) }}
              >
                {id}{" "}
              </Link>
            ))}
          </p>
        )}
        {c.undoneBy ? (
          <p>
            Undone by changeover{" "}
            <Link
              to="/changeovers/$id"
              params={{ id: String(c.undoneBy) }}
            >
              {c.undoneBy}
            </Link>
            .
          </p>
        ) : (
          !c.undoable && c.whyNot && c.lasting && <Muted>Cannot be undone now: {c.whyNot}.</Muted>
        )}
      </Panel>
    );
  }
  if (c.state === "undone" || c.state === "held" || c.state === "undoing") {
    return (
      <Panel role="alert">
        <h2>
          {c.state === "held"
            ? "Held: it could not go back by itself. Nothing was deleted."
            : c.state === "undone"
              ? `Undone. ${c.outcome ?? ""}`
              : "Going back to what was there before."}
        </h2>
        {c.window && (
          <p>
            Players were locked out for <b>{millis(c.window.totalMs)}</b>.
          </p>
        )}
        {c.failure && (
          <>
            <p>{c.failure.what}</p>
            <Muted>{c.failure.next}</Muted>
          </>
        )}
      </Panel>
    );
  }
  return null;
}

const Looking = styled.ul`
  display: grid;
  gap: 0.5rem;
  li {
    display: flex;
    gap: 0.7rem;
    align-items: center;
    flex-wrap: wrap;
  }
  li > span:first-child {
    margin-right: auto;
  }
  small {
    color: var(--muted);
  }
`;

/** Landmarks to look for in the game, each to be ticked. */
function Landmarks({ c, onTick }: { c: Changeover; onTick: (landmark: number, seen: boolean) => void }) {
  if (!c.landmarks || c.landmarks.length === 0) return null;
  return (
    <Panel>
      <h2>Join and look for</h2>
      <Looking aria-label="Landmarks">
        {c.landmarks.map((l) => (
          <li key={l.id}>
            <span>
              {l.say}
              {l.place && <small> at {l.place}</small>}
            </span>
            {l.seen !== undefined && (
              <Mark
                of={l.seen ? "fits" : "blocks"}
                quiet
              >
                {l.seen ? "seen" : "missing"}
              </Mark>
            )}
            {l.seen !== undefined && <small>{l.toldBy}</small>}
            {l.seen !== true && (
              <Button
                onPress={() => onTick(l.id, true)}
                aria-label={`I have seen: ${l.say}`}
              >
                It is there
              </Button>
            )}
            {l.seen !== false && (
              <Button
                onPress={() => onTick(l.id, false)}
                aria-label={`Missing: ${l.say}`}
              >
                It is missing
              </Button>
            )}
          </li>
        ))}
      </Looking>
    </Panel>
  );
}

const Cols = styled.div`
  display: grid;
  gap: 1.2rem;
  grid-template-columns: minmax(0, 1.35fr) minmax(0, 1fr);
  align-items: start;
  & > div {
    display: grid;
    gap: 1.2rem;
    grid-template-columns: minmax(0, 1fr);
  }
  @media (max-width: 900px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;

type Verb = "start" | "go-on" | "cancel" | "leave" | "retry" | "settle";

/** What a person can do with a changeover, by its state. */
const verbs: { verb: Verb; when: Changeover["state"][]; main: boolean; say: (c: Changeover) => string }[] = [
  { verb: "start", when: ["drafted"], main: true, say: (c) => `Carry it out on ${c.server}` },
  { verb: "go-on", when: ["waiting"], main: true, say: () => "Go on: switch now" },
  { verb: "cancel", when: ["staging", "waiting"], main: false, say: () => "Cancel" },
  { verb: "retry", when: ["held"], main: true, say: () => "Try to go back once more" },
  { verb: "settle", when: ["held"], main: false, say: () => "I have put it right by hand" },
];

/** What it is, how it stands, and what a person can do with it. */
function Top({ c }: { c: Changeover }) {
  const { id } = c;
  const client = useQueryClient();
  const navigate = useNavigate();
  const act = useMutation({
    mutationFn: (verb: Verb) => api.act(id, verb),
    onSuccess: () => client.invalidateQueries({ queryKey: ["changeover", id] }),
  });
  const undo = useMutation({
    mutationFn: () => api.draftUndo(id),
    onSuccess: (draft) => navigate({ to: "/changeovers/$id", params: { id: String(draft.id) } }),
  });
  return (
    <>
      <div>
        <Crumb>
          <Link
            to="/servers/$server"
            params={{ server: c.server }}
          >
            {c.server}
          </Link>
        </Crumb>
        <Head>
          <h1>{sentence(c.title)}</h1>
          <Mark of={standing(c)} />
          {verbs
            .filter((v) => v.when.includes(c.state))
            .map((v) => (
              <Button
                key={v.verb}
                look={v.main ? "main" : undefined}
                isDisabled={act.isPending}
                onPress={() => act.mutate(v.verb)}
              >
                {v.say(c)}
              </Button>
            ))}
          {c.undoable && (
            <Button
              look="grave"
              isDisabled={undo.isPending}
              onPress={() => undo.mutate()}
            >
              Undo …
            </Button>
          )}
        </Head>
        <Muted>
          Changeover {c.id}, by {c.createdBy}, {when(c.startedAt ?? c.createdAt)}
        </Muted>
      </div>
      {act.isError && <Failure error={act.error} />}
      {undo.isError && <Failure error={undo.error} />}
    </>
  );
}

export function ChangeoverPage() {
  const { id: text } = useParams({ from: "/changeovers/$id" });
  const id = Number(text);
  const client = useQueryClient();
  const query = useQuery(queries.changeover(id));
  const c = query.data;
  const tick = useMutation({
    mutationFn: ({ landmark, seen }: { landmark: number; seen: boolean }) => api.tick(id, landmark, seen),
    onSuccess: (now) => client.setQueryData(queries.changeover(id).queryKey, now),
  });
  if (!c)
    return (
      <Page>
        <div>
          <Crumb>
            <Link to="/changeovers">Changeovers</Link>
          </Crumb>
          <Head>
            <h1>Changeover {text}</h1>
          </Head>
        </div>
        <Answer
          of={query}
          waiting="Reading what was done"
        >
          {() => null}
        </Answer>
      </Page>
    );
  const ended = c.state === "done" || c.state === "undone";
  return (
    <Page>
      <Top c={c} />
      <Cols>
        <div>
          <Outcome c={c} />
          {c.story && (
            <Panel>
              <details>
                <summary>
                  <strong>Why it ended so</strong>: meant, seen, done, what stands where, what to do
                </summary>
                {c.story.map((part) => (
                  <section key={part.title}>
                    <h3>{part.title}</h3>
                    {part.says.map((say) => (
                      <p key={say}>{say}</p>
                    ))}
                  </section>
                ))}
              </details>
            </Panel>
          )}
          <Landmarks
            c={c}
            onTick={(landmark, seen) => tick.mutate({ landmark, seen })}
          />
          {tick.isError && <Failure error={tick.error} />}
          <Under c={c} />
          <Panel>
            <h2>{c.state === "drafted" ? "Plan: nothing is touched until you carry it out" : "Steps"}</h2>
            <PlanView
              plan={c.plan}
              steps={c.state === "drafted" ? undefined : c.steps}
            />
          </Panel>
        </div>
        <div>
          {c.proof && (
            <Panel>
              <h2>Proof</h2>
              <ProofList proof={c.proof} />
            </Panel>
          )}
          <Panel>
            {ended ? (
              <details>
                <summary>Log of {c.server}</summary>
                <Log
                  key={c.server}
                  server={c.server}
                  height="17rem"
                />
              </details>
            ) : (
              <>
                <h2>Log of {c.server}</h2>
                <Log
                  key={c.server}
                  server={c.server}
                  height="17rem"
                />
              </>
            )}
          </Panel>
        </div>
      </Cols>
    </Page>
  );
}
