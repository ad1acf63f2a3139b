import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { lazy, Suspense, useState } from "react";
import { Checkbox } from "react-aria-components";
import styled from "styled-components";
import { api, type Complaint, type Fact, type Proposal, type Tried } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
import { Columns, Field } from "../parts/form";
import { Crumb, Failure, Head, Muted, Page, Panel, Table } from "../parts/layout";
import { Mark } from "../parts/marks";
import { count } from "../words";

const Editor = lazy(() => import("../parts/editor"));

const Two = styled.div`
  display: grid;
  gap: 1.2rem;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  align-items: start;
  @media (max-width: 980px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;

const Side = styled.div`
  display: grid;
  gap: 1.2rem;
  grid-template-columns: minmax(0, 1fr);
`;

const Lines = styled.ul`
  display: grid;
  gap: 0.45rem;
  li {
    display: grid;
    grid-template-columns: 5.6rem minmax(0, 1fr);
    gap: 0.6rem;
    overflow-wrap: anywhere;
  }
  small {
    color: var(--muted);
    display: block;
  }
`;

const Scroll = styled.section`
  max-height: 17rem;
  overflow-y: auto;
`;

const Tick = styled(Checkbox)`
  display: flex;
  gap: 0.5rem;
  align-items: baseline;
  cursor: pointer;
  margin-right: auto;
  &::before {
    content: "";
    width: 0.95em;
    height: 0.95em;
    border: 2px solid var(--line-strong);
    border-radius: 3px;
    transform: translateY(0.12em);
    flex: none;
  }
  &[data-selected]::before {
    background: var(--accent);
    border-color: var(--accent);
  }
  &[data-focus-visible]::before {
    outline: 2px solid var(--focus);
    outline-offset: 2px;
  }
`;

const Foot = styled.div`
  display: flex;
  gap: 0.8rem;
  align-items: center;
  justify-content: flex-end;
  margin-top: 0.8rem;
  flex-wrap: wrap;
`;

const first = `reshard: game/1
id: mygame
title: My Game

world:
  shape: folder
  recognise: {require: [world.dat]}

server:
  kinds:
    mygame: {}
  worlds: worlds/
  settings:
    main: {file: server.ini, format: ini}
  keys:
    active-world: [{in: main, key: server/world}]
  console:
    ready: 'ready'
    stop: {signal: SIGTERM}
`;

/** Writes a game's profile: sketched from examples, checked while it is typed, tried before it is saved. */
export function EditGame() {
  const { game } = useSearch({ from: "/games/edit" });
  const games = useQuery(queries.games());
  const known = games.data?.find((g) => g.id === game);
  if (games.isError)
    return (
      <Page>
        <Failure error={games.error} />
      </Page>
    );
  if (!games.data)
    return (
      <Page>
        <Muted>Loading …</Muted>
      </Page>
    );
  return (
    <Writing
      key={game}
      start={known?.profile ?? first}
      title={known ? `Profile of ${known.title}` : "A new profile"}
      origin={known?.origin ?? ""}
    />
  );
}

function Complaints({ list }: { list: Complaint[] }) {
  return (
    <Panel aria-live="polite">
      <h2>Complaints</h2>
      {list.length === 0 ? (
        <Muted>None. Try the profile with examples before you save it.</Muted>
      ) : (
        <Scroll
          tabIndex={0}
          aria-label="Complaints"
        >
          <Lines>
            {list.map((c) => (
              <li key={c.line + c.what}>
                <span>
                  line {c.line}, {c.column}
                </span>
                <span>{c.what}</span>
              </li>
            ))}
          </Lines>
        </Scroll>
      )}
    </Panel>
  );
}

type Examples = { world: string; server: string; kind: string };
type Act = { mutate: () => void; isPending: boolean; isError: boolean; error: Error | null };

function ExamplesForm({
  examples,
  change: to,
  mayTry,
  sketch,
  attempt,
}: {
  examples: Examples;
  change: (to: Examples) => void;
  mayTry: boolean;
  sketch: Act;
  attempt: Act;
}) {
  const set = (key: "world" | "server" | "kind") => (value: string) => to({ ...examples, [key]: value });
  const none = examples.world === "" && examples.server === "";
  return (
    <Panel>
      <h2>Examples on the service’s host</h2>
      <Columns
        onSubmit={(e) => {
          e.preventDefault();
          attempt.mutate();
        }}
      >
        <Field
          className="wide"
          label="A world"
          value={examples.world}
          onChange={set("world")}
          autoComplete="off"
          hint="Its whole path: a folder, an archive or a file"
        />
        <Field
          className="wide"
          label="A server’s folder"
          value={examples.server}
          onChange={set("server")}
          autoComplete="off"
        />
        <Field
          className="wide"
          label="Kind of the server"
          value={examples.kind}
          onChange={set("kind")}
          autoComplete="off"
          hint="Only when the profile has several"
        />
        <Foot className="wide">
          <Button
            isDisabled={none || sketch.isPending}
            onPress={() => sketch.mutate()}
          >
            Sketch a profile from them
          </Button>
          <Button
            look="main"
            type="submit"
            isDisabled={none || !mayTry || attempt.isPending}
          >
            Try the profile
          </Button>
        </Foot>
      </Columns>
      {sketch.isError && <Failure error={sketch.error} />}
      {attempt.isError && <Failure error={attempt.error} />}
    </Panel>
  );
}

function Writing({ start, title, origin }: { start: string; title: string; origin: string }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [text, setText] = useState(start);
  const [complaints, setComplaints] = useState<Complaint[]>([]);
  const [examples, setExamples] = useState({ world: "", server: "", kind: "" });
  const [override, setOverride] = useState(false);
  const save = useMutation({
    mutationFn: () => api.saveGame(text, override),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["games"] });
      await navigate({ to: "/games" });
    },
  });
  const attempt = useMutation({
    mutationFn: () => api.tryGame(text, examples.world, examples.server, examples.kind),
  });
  const sketch = useMutation({
    mutationFn: () => api.sketchGame(examples.world, examples.server),
    onSuccess: (p) => setText(p.profile),
  });
  return (
    <Page>
      <div>
        <Crumb>
          <Link to="/games">Games</Link>
        </Crumb>
        <Head>
          <h1>{title}</h1>
          <Mark of={complaints.length ? "blocks" : "fits"}>
            {complaints.length ? count(complaints.length, "complaint", "complaints") : "no complaints"}
          </Mark>
        </Head>
      </div>
      <Two>
        <Panel>
          <Suspense fallback={<Muted>Loading the editor …</Muted>}>
            <Editor
              text={text}
              onChange={setText}
              onComplaints={setComplaints}
            />
          </Suspense>
          <Foot>
            {(origin === "shipped" || origin === "folder") && (
              <Tick
                isSelected={override}
                onChange={setOverride}
              >
                Let it override the one that is there ({origin})
              </Tick>
            )}
            <Button
              look="main"
              isDisabled={complaints.length > 0 || save.isPending || text === start}
              onPress={() => save.mutate()}
            >
              Save as the next version
            </Button>
          </Foot>
          {save.isError && <Failure error={save.error} />}
        </Panel>
        <Side>
          <Complaints list={complaints} />
          <ExamplesForm
            examples={examples}
            change={setExamples}
            mayTry={complaints.length === 0}
            sketch={sketch}
            attempt={attempt}
          />
          {sketch.data && !attempt.data && <Sketched proposal={sketch.data} />}
        </Side>
      </Two>
      {attempt.data && <Outcome tried={attempt.data} />}
    </Page>
  );
}

const sureMarks: Record<string, string> = { sure: "fits", likely: "adjust", guess: "choose" };

function Sketched({ proposal }: { proposal: Proposal }) {
  return (
    <Panel>
      <h2>How sure the sketch is</h2>
      <Scroll
        tabIndex={0}
        aria-label="How sure the sketch is"
      >
        <Lines>
          {proposal.parts.map((p) => (
            <li key={p.key + p.text}>
              <Mark
                of={sureMarks[p.sure] ?? "choose"}
                quiet
              >
                {p.sure}
              </Mark>
              <span>
                {p.key}
                <small>{p.why}</small>
              </span>
            </li>
          ))}
        </Lines>
      </Scroll>
    </Panel>
  );
}

function FactRow({ name, fact }: { name: string; fact: Fact }) {
  const items = fact.items?.map((i) => [i.name, i.version].filter(Boolean).join(" ")).join(", ");
  return (
    <tr>
      <td>
        <Mark
          of={fact.why ? "blocks" : "fits"}
          quiet
        >
          {fact.why ? "not read" : "read"}
        </Mark>
      </td>
      <td>
        <b>{name}</b>
      </td>
      <td>{fact.why ?? (fact.type === "list" ? items || "none" : fact.text)}</td>
      <td>
        <code>{fact.file}</code>
      </td>
      <td>
        <code>{fact.place}</code>
      </td>
    </tr>
  );
}

function Outcome({ tried }: { tried: Tried }) {
  const { world: w, server: s } = tried;
  return (
    <Panel aria-live="polite">
      <h2>What the profile reads</h2>
      <Table>
        <thead>
          <tr>
            <th>Outcome</th>
            <th>Fact or key</th>
            <th>Value</th>
            <th>File</th>
            <th>Place</th>
          </tr>
        </thead>
        <tbody>
          {w &&
            Object.entries(w.facts)
              .toSorted(([a], [b]) => a.localeCompare(b))
              .map(([name, fact]) => (
                <FactRow
                  key={name}
                  name={name}
                  fact={fact}
                />
              ))}
          {w && (
            <tr>
              <td>found</td>
              <td>
                <b>players</b>
              </td>
              <td>{w.players.map((p) => p.name || p.id).join(", ") || "no records"}</td>
              <td>–</td>
              <td>–</td>
            </tr>
          )}
          {s && (
            <FactRow
              name="server version"
              fact={s.version}
            />
          )}
          {s && (
            <FactRow
              name="server mods"
              fact={s.mods}
            />
          )}
          {s &&
            Object.entries(s.keys)
              .toSorted(([a], [b]) => a.localeCompare(b))
              .map(([name, k]) => (
                <tr key={name}>
                  <td>
                    <Mark
                      of={k.found || k.default ? "fits" : "choose"}
                      quiet
                    >
                      {k.found ? "set" : k.default ? "default" : "not set"}
                    </Mark>
                  </td>
                  <td>
                    <b>{name}</b>
                  </td>
                  <td>{k.value}</td>
                  <td>
                    <code>{k.file}</code>
                  </td>
                  <td>
                    <code>
                      {k.line ? `line ${k.line}, ` : ""}
                      {k.key}
                    </code>
                  </td>
                </tr>
              ))}
          {s && (
            <tr>
              <td>found</td>
              <td>
                <b>worlds</b>
              </td>
              <td>{s.worlds.map((x) => x.folder).join(", ") || "none"}</td>
              <td>
                <code>{s.worldsFolder}/</code>
              </td>
              <td>–</td>
            </tr>
          )}
        </tbody>
      </Table>
      {w && w.warnings.map((x) => <p key={x}>! {x}</p>)}
    </Panel>
  );
}
