import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import styled from "styled-components";
import { type Server, type ServerFacts, type Setting } from "../api/client";
import { queries } from "../api/queries";
import { serverPicture, Facts, Muted, Panel, Picture, Table } from "./layout";
import { Mark } from "./marks";
import { bytes, quoted, when } from "../words";

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
  gap: 1.2rem;
  @media (max-width: 46rem) {
    flex-wrap: wrap;
  }
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

/** The world that the settings name, as it stands there. */
function ActiveFacts({ server: s, facts: f, active }: World) {
  return (
    <Live>
      <Picture
        size={216}
        src={s.drawn && active ? serverPicture(s.name, active.folder, active.lastPlayed) : undefined}
        of={active?.title ?? f.active}
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
          The settings name {f.active ? <code>{quoted(f.active)}</code> : "no world"}, and there is no such
          world on the server. <b>At its next start it would make a new one.</b>
        </p>
      )}
    </Live>
  );
}

/** All worlds in the server's folder, and the way to each. */
function WorldsTable({ server: s, facts: f }: Pick<World, "server" | "facts">) {
  return (
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
              ) : w.autosave ? (
                <>
                  <Muted as="span">saved by the game itself</Muted>{" "}
                  <Link
                    to="/change"
                    search={{ kind: "take-away", server: s.name, world: w.folder }}
                  >
                    Take it away
                  </Link>
                </>
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
  );
}

/** What a person may want to do with the server's worlds. */
function WhatCanBeDone({ server: s, active }: Pick<World, "server" | "active">) {
  const servers = useQuery(queries.servers());
  const others = servers.data?.filter((o) => o.game === s.game && o.name !== s.name) ?? [];
  return (
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
  );
}

/** What the server itself is. */
function AboutServer({ server: s, facts: f }: Pick<World, "server" | "facts">) {
  return (
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
      <dd>{f.mods.items?.map((m) => `${m.name} ${m.version ?? ""}`.trim()).join(", ") || "none known"}</dd>
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
  );
}

type World = {
  server: Server;
  facts: ServerFacts["facts"];
  active: ServerFacts["facts"]["worlds"][number] | undefined;
};

export function WorldTab({ facts: { server, facts } }: { facts: ServerFacts }) {
  const active = facts.worlds.find((w) => w.folder === facts.active);
  const keys = Object.entries(facts.keys).toSorted(([a], [b]) => a.localeCompare(b));
  return (
    <Two>
      <Panel>
        <h2>Active world</h2>
        <ActiveFacts
          server={server}
          facts={facts}
          active={active}
        />
        <h3>All worlds on it</h3>
        <WorldsTable
          server={server}
          facts={facts}
        />
        <WhatCanBeDone
          server={server}
          active={active}
        />
      </Panel>
      <Panel>
        <h2>Server</h2>
        <AboutServer
          server={server}
          facts={facts}
        />
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
