import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useState } from "react";
import { TabPanel, Tabs } from "react-aria-components";
import styled from "styled-components";
import { api, type ServerFacts, type Setting } from "../api/client";
import { queries } from "../api/queries";
import { Button, Tab, TabList } from "../parts/controls";
import { Field } from "../parts/form";
import {
  copyPicture,
  serverPicture,
  Crumb,
  Facts,
  Failure,
  Head,
  Muted,
  Page,
  Panel,
  Picture,
  Table,
} from "../parts/layout";
import { Log } from "../parts/log";
import { Mark } from "../parts/marks";
import { FitSheet } from "../parts/sheet";
import { bytes, quoted, when } from "../words";
import { ChangeoverTable } from "./changeovers";

export function ServerPage() {
  const { server: name } = useParams({ from: "/servers/$server" });
  const client = useQueryClient();
  const server = useQuery(queries.server(name));
  const operate = useMutation({
    mutationFn: (what: "start" | "stop" | "sayStopped") => api[what](name),
    onSettled: () => client.invalidateQueries({ queryKey: ["servers"] }),
  });
  const [saying, setSaying] = useState(false);
  const navigate = useNavigate();
  const remove = useMutation({
    mutationFn: () => api.removeServer(name),
    onSuccess: async () => {
      await navigate({ to: "/servers" });
      client.removeQueries({ queryKey: ["servers", name] });
      await client.invalidateQueries({ queryKey: ["servers"] });
    },
  });
  const s = server.data?.server;
  const down = s?.state === "stopped" || s?.state === "exited" || s?.state === "unreachable";
  return (
    <Page>
      <div>
        <Crumb>
          <Link to="/servers">Servers</Link>
        </Crumb>
        <Head>
          <h1>{name}</h1>
          {s && (
            <Mark of={s.state}>
              {s.state}
              {s.state === "exited" && (s.exitCode ?? -1) >= 0 ? ` with code ${s.exitCode}` : ""}
            </Mark>
          )}
          {s && down && (
            <Button
              look="grave"
              isDisabled={remove.isPending || Boolean(s.changeover)}
              onPress={() => remove.mutate()}
            >
              Forget this server
            </Button>
          )}
          {s && s.state === "unknown" && (
            <Button
              onPress={() => setSaying(!saying)}
              isDisabled={operate.isPending}
            >
              I know that it is stopped …
            </Button>
          )}
          {s && s.state !== "unreachable" && s.state !== "unknown" && (
            <Button
              onPress={() => operate.mutate(down ? "start" : "stop")}
              isDisabled={operate.isPending || Boolean(s.changeover)}
            >
              {operate.isPending ? "Waiting for the server …" : down ? "Start" : "Stop"}
            </Button>
          )}
        </Head>
      </div>
      {server.isError && <Failure error={server.error} />}
      {operate.isError && <Failure error={operate.error} />}
      {remove.isError && <Failure error={remove.error} />}
      {s?.changeover ? (
        <Panel>
          Changeover{" "}
          <Link
            to="/changeovers/$id"
            params={{ id: String(s.changeover) }}
          >
            {s.changeover}
          </Link>{" "}
          holds this server.
        </Panel>
      ) : null}
      {s?.note && (
        <Panel>
          {s.note}{" "}
          {s.state === "unknown" && (
            <Muted>
              Until it can be told, Reshard moves, writes and starts nothing there. When you know that it is
              stopped, say so: your word stands in for it, and proofs name it.
            </Muted>
          )}
          {s.state === "unknown" && saying && (
            <>
              <p style={{ margin: "0.6rem 0" }}>
                <strong>
                  If it runs all the same, its world is moved away under it and what is played is lost.
                </strong>
              </p>
              <Button
                look="grave"
                onPress={() => operate.mutate("sayStopped")}
                isDisabled={operate.isPending}
              >
                It is stopped
              </Button>
            </>
          )}
        </Panel>
      )}
      {s?.trouble && <Failure error={new Error(s.trouble)} />}
      {server.data && (
        <Tabs>
          <TabList aria-label={`About ${name}`}>
            <Tab id="world">World</Tab>
            <Tab id="fit">Fit</Tab>
            <Tab id="log">Log</Tab>
            <Tab id="changeovers">Changeovers</Tab>
            <Tab id="aside">Set aside</Tab>
          </TabList>
          <TabPanel id="world">
            {s?.trouble ? (
              <Panel>
                <Muted>Its files cannot be read now, so nothing is known of its worlds and settings.</Muted>
              </Panel>
            ) : (
              <WorldTab facts={server.data} />
            )}
          </TabPanel>
          <TabPanel id="fit">
            <FitTab facts={server.data} />
          </TabPanel>
          <TabPanel id="log">
            <Log
              key={name}
              server={name}
            />
          </TabPanel>
          <TabPanel id="changeovers">
            <ServerChangeovers server={name} />
          </TabPanel>
          <TabPanel id="aside">
            <AsideTab server={name} />
          </TabPanel>
        </Tabs>
      )}
    </Page>
  );
}

const Two = styled.div`
  display: grid;
  gap: 1.2rem;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  align-items: start;
  @media (max-width: 860px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;

const Live = styled.div`
  display: flex;
  gap: 1rem;
  margin-bottom: 0.9rem;
  h3 {
    font-size: 1.15rem;
  }
`;

const Doing = styled.ul`
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem 1.4rem;
  margin-top: 0.9rem;
  font-weight: 600;
`;

function WorldTab({ facts: { server: s, facts: f } }: { facts: ServerFacts }) {
  const servers = useQuery(queries.servers());
  const others = servers.data?.filter((o) => o.game === s.game && o.name !== s.name) ?? [];
  const active = f.worlds.find((w) => w.folder === f.active);
  const keys = Object.entries(f.keys).toSorted(([a], [b]) => a.localeCompare(b));
  return (
    <Two>
      <Panel>
        <h2>Active world</h2>
        <Live>
          <Picture
            size={132}
            src={s.drawn && active ? serverPicture(s.name, active.folder, active.lastPlayed) : undefined}
            of={active?.title}
          />
          {active ? (
            <Facts>
              <dt>Title</dt>
              <dd>
                <b>{quoted(active.title)}</b>
              </dd>
              <dt>Folder</dt>
              <dd>
                <code>{quoted(active.folder)}</code>
              </dd>
              <dt>Seed</dt>
              <dd>
                <code>{active.seed || "not known"}</code>
              </dd>
              <dt>Size</dt>
              <dd>{bytes(active.bytes)}</dd>
              <dt>Last played</dt>
              <dd>{when(active.lastPlayed)}</dd>
              {s.opened && (
                <>
                  <dt>Log says</dt>
                  <dd>
                    opened <code>{s.opened}</code>
                  </dd>
                </>
              )}
            </Facts>
          ) : (
            <p>
              The settings name {f.active ? <code>{quoted(f.active)}</code> : "no world"}, and there is no
              such world on the server. <b>At its next start it would make a new one.</b>
            </p>
          )}
        </Live>
        <h3>All worlds on it</h3>
        <Table>
          <thead>
            <tr>
              <th>Folder</th>
              <th>Title</th>
              <th>Size</th>
              <th>Last played</th>
              <th>
                <span className="unseen">Active</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {f.worlds.map((w) => (
              <tr key={w.folder}>
                <td>
                  <code>{w.folder}</code>
                </td>
                <td>{quoted(w.title)}</td>
                <td>{bytes(w.bytes)}</td>
                <td>{when(w.lastPlayed)}</td>
                <td>
                  {w.folder === f.active ? (
                    "active"
                  ) : (
                    <Link
                      to="/change"
                      search={{ kind: "switch", server: s.name, world: w.folder }}
                    >
                      Switch to it
                    </Link>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
        <Doing aria-label="What can be done">
          <li>
            <Link
              to="/change"
              search={{ kind: "reset", server: s.name }}
            >
              Make a new world
            </Link>
          </li>
          {active && (
            <li>
              <Link
                to="/change"
                search={{ kind: "rename", server: s.name }}
              >
                Rename {quoted(active.folder)}
              </Link>
            </li>
          )}
          {active && (
            <li>
              <Link
                to="/change"
                search={{ kind: "take-away", server: s.name, world: active.folder }}
              >
                Take it away to play alone
              </Link>
            </li>
          )}
          {active &&
            others.map((o) => (
              <li key={o.name}>
                <Link
                  to="/change"
                  search={{ kind: "clone", from: s.name, server: o.name }}
                >
                  Clone it onto {o.name}
                </Link>
              </li>
            ))}
        </Doing>
      </Panel>
      <Panel>
        <h2>Server</h2>
        <Facts>
          <dt>Game, kind</dt>
          <dd>
            {s.game}, {s.kind}
          </dd>
          <dt>Version</dt>
          <dd>
            {s.version || "not known"}
            {s.version && <small>{s.versionFrom}</small>}
          </dd>
          <dt>Mods</dt>
          <dd>
            {f.mods.items?.map((m) => `${m.name} ${m.version ?? ""}`.trim()).join(", ") || "none known"}
          </dd>
          <dt>Players join at</dt>
          <dd>
            <code>{s.join || "not known"}</code>
            {s.joinNote && <small>{s.joinNote}</small>}
          </dd>
          <dt>Folder</dt>
          <dd>
            <code>{s.root}</code>
          </dd>
          <dt>Command</dt>
          <dd>
            <code>{s.command.map((w) => (/^[\w./=-]+$/.test(w) ? w : `'${w}'`)).join(" ")}</code>
          </dd>
          <dt>Host</dt>
          <dd>
            {s.host}
            {s.lacks?.map((l) => (
              <small key={l.name}>
                Without {l.name}. {l.say}
              </small>
            ))}
          </dd>
          {s.process ? (
            <>
              <dt>Process</dt>
              <dd>
                {s.process.replace(/^process /, "")}, since {when(s.since)}
              </dd>
            </>
          ) : null}
        </Facts>
        <h3 style={{ marginTop: "1rem" }}>Settings that matter</h3>
        <Facts>
          {keys.map(([name, k]) => (
            <KeyFact
              key={name}
              name={name}
              setting={k}
            />
          ))}
        </Facts>
      </Panel>
    </Two>
  );
}

const Chain = styled.dd`
  span {
    display: block;
  }
  span.beaten code {
    text-decoration: line-through;
    color: var(--muted);
  }
`;

function whereText(g: { in: string; file: string; line?: number; key: string }): string {
  if (g.in === "command") return `the start command, ${g.key}`;
  return g.line ? `${g.file} line ${g.line}, ${g.key}` : g.file;
}

/** A setting's effective value, the source that gives it, those that it beats, and what must hold with it. */
function KeyFact({ name, setting: k }: { name: string; setting: Setting }) {
  const value = k.found || k.default ? quoted(k.value) : "not set";
  return (
    <>
      <dt>{name.charAt(0).toUpperCase() + name.slice(1).replaceAll("-", " ")}</dt>
      <Chain>
        <span>
          <code>{value}</code>
          <small>{k.fixed ? "always" : k.default ? "what the game takes by itself" : whereText(k)}</small>
        </span>
        {k.hides?.map((h) => (
          <span
            key={h.in + h.key}
            className="beaten"
          >
            <code>{quoted(h.value)}</code>
            <small>beaten: {whereText(h)}</small>
          </span>
        ))}
        {k.with?.map((h) => (
          <span key={h.in + h.key}>
            <Mark
              of={h.found && h.value === h.want ? "fits" : "blocks"}
              quiet
            >
              {h.found && h.value === h.want ? "holds" : "must hold"}
            </Mark>
            <small>
              {h.key} = {h.want} in {h.file}
            </small>
          </span>
        ))}
      </Chain>
    </>
  );
}

const Stack = styled.div`
  display: grid;
  gap: 1.2rem;
  grid-template-columns: minmax(0, 1fr);
`;

function FitTab({ facts: { server: s } }: { facts: ServerFacts }) {
  const check = useQuery(queries.check(s.name));
  const worlds = useQuery(queries.worlds());
  const navigate = useNavigate();
  const mine = worlds.data?.filter((w) => w.game === s.game) ?? [];
  // Trouble comes first: it bites at the next start.
  const trouble = check.isError || (check.data !== undefined && check.data.sheet.verdict !== "fits");
  const now = (
    <Panel>
      <h2>As it is now</h2>
      {check.isError && <Failure error={check.error} />}
      {check.data && (
        <FitSheet
          sheet={check.data.sheet}
          choices={{}}
        />
      )}
    </Panel>
  );
  return (
    <Stack>
      {trouble && now}
      <Panel>
        <h2>Put a world of the library here</h2>
        {worlds.isError && <Failure error={worlds.error} />}
        {worlds.data && mine.length === 0 && (
          <Muted>The library has no world of this game. Send one on the page Library.</Muted>
        )}
        {mine.length > 0 && (
          <Table>
            <thead>
              <tr>
                <th>
                  <span className="unseen">Picture</span>
                </th>
                <th>World</th>
                <th>Version</th>
                <th>Seed</th>
                <th>Size</th>
                <th>Last played</th>
                <th>
                  <span className="unseen">Next</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {mine.map((w) => {
                const f = w.copies[0]?.facts;
                return (
                  <tr key={w.name}>
                    <td>
                      <Picture
                        size={38}
                        src={w.copies[0]?.drawn ? copyPicture(w.copies[0].id) : undefined}
                        of={w.title}
                      />
                    </td>
                    <td>
                      <b>{quoted(w.title)}</b>
                      <br />
                      <code>{w.name}</code>
                    </td>
                    <td>{f?.facts.version?.text ?? "–"}</td>
                    <td>
                      <code>{f?.facts.seed?.text ?? "–"}</code>
                    </td>
                    <td>{bytes(f?.bytes ?? -1)}</td>
                    <td>{when(f?.lastPlayed)}</td>
                    <td>
                      <Button
                        onPress={() =>
                          void navigate({
                            to: "/change",
                            search: { kind: "put", world: w.name, server: s.name },
                          })
                        }
                        aria-label={`See whether ${w.title} fits`}
                      >
                        See whether it fits
                      </Button>
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </Table>
        )}
      </Panel>
      {!trouble && now}
    </Stack>
  );
}

const Typed = styled.form`
  display: flex;
  gap: 0.8rem;
  align-items: end;
  flex-wrap: wrap;
  padding: 0.4rem 0 0.2rem;
`;

/** What changeovers have set aside, the rule that removes it, and removing it now. */
function AsideTab({ server }: { server: string }) {
  const client = useQueryClient();
  const list = useQuery(queries.aside(server));
  const [going, setGoing] = useState<number>();
  const [typed, setTyped] = useState("");
  const tidy = useMutation({
    mutationFn: (id: number) => api.tidy(server, id, typed),
    onSuccess: () => {
      setGoing(undefined);
      setTyped("");
      return client.invalidateQueries({ queryKey: ["aside", server] });
    },
  });
  if (list.isError) return <Failure error={list.error} />;
  return (
    <Panel>
      <h2>Set aside on {server}</h2>
      <Muted>
        Changeovers delete nothing. What they put out of the way stays on the server's own disk until its time
        has passed.
      </Muted>
      {list.data?.length === 0 && <p>Nothing is set aside.</p>}
      {list.data && list.data.length > 0 && (
        <Table>
          <thead>
            <tr>
              <th>Name</th>
              <th>Holds</th>
              <th>Size</th>
              <th>Since</th>
              <th>Goes</th>
              <th>
                <span className="unseen">Remove</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {list.data.map((a) => (
              <tr key={a.name}>
                <td>
                  <code>{a.name}</code>
                </td>
                <td>
                  {a.holds?.map((h) => (
                    <div key={h}>{h}</div>
                  ))}
                  {going === a.changeover && (
                    <Typed
                      onSubmit={(e) => {
                        e.preventDefault();
                        tidy.mutate(a.changeover);
                      }}
                    >
                      <Field
                        label={`Type ${a.name} to remove it for good`}
                        value={typed}
                        onChange={setTyped}
                      />
                      <Button
                        type="submit"
                        look="grave"
                        isDisabled={typed !== a.name || tidy.isPending}
                      >
                        Remove it for good
                      </Button>
                      <Button
                        onPress={() => {
                          setGoing(undefined);
                          setTyped("");
                        }}
                      >
                        Keep it
                      </Button>
                    </Typed>
                  )}
                </td>
                <td>{bytes(a.bytes)}</td>
                <td>{when(a.since)}</td>
                <td>
                  {a.goes ? when(a.goes) : "stays"}
                  <br />
                  <Muted as="small">{a.rule}</Muted>
                </td>
                <td>
                  {a.removable && going !== a.changeover && (
                    <Button
                      onPress={() => {
                        setGoing(a.changeover);
                        setTyped("");
                      }}
                      aria-label={`Remove ${a.name} …`}
                    >
                      Remove …
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      {tidy.isError && <Failure error={tidy.error} />}
    </Panel>
  );
}

function ServerChangeovers({ server }: { server: string }) {
  const list = useQuery(queries.changeovers(server));
  if (list.isError) return <Failure error={list.error} />;
  return (
    <Panel>
      <ChangeoverTable list={list.data ?? []} />
    </Panel>
  );
}
