import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import styled from "styled-components";
import type { World } from "../api/client";
import { queries } from "../api/queries";
import { Arrivals } from "../parts/arrivals";
import { Button, Switch } from "../parts/controls";
import { Columns, Field } from "../parts/form";
import { copyPicture, Failure, Head, Muted, Page, Panel, Picture, Table } from "../parts/layout";
import { Choice } from "../parts/choice";
import { bytes, quoted, when } from "../words";

const Tag = styled.span`
  display: inline-block;
  font-size: 0.8rem;
  padding: 0 0.4rem;
  margin-left: 0.35rem;
  border: 1px solid var(--line-strong);
  border-radius: 9px;
  color: var(--muted);
`;
const About = styled.p`
  color: var(--muted);
`;

/** How many worlds are listed at a time; the rest when somebody asks. */
const atATime = 100;

// Looked is what a person looks for; what is empty is not asked.
type Looked = { search: string; game: string; server: string; aside: boolean };

function Filters({
  looked,
  change,
  games,
  servers,
}: {
  looked: Looked;
  change: (to: Looked) => void;
  games: string[];
  servers: string[];
}) {
  return (
    <Panel>
      <Columns onSubmit={(e) => e.preventDefault()}>
        <Field
          label="Search"
          hint="words of a title, folder, seed, version, player, note, tag, or where it came from"
          value={looked.search}
          onChange={(search) => change({ ...looked, search })}
        />
        <Choice
          label="Game"
          all="all games"
          options={games}
          value={looked.game}
          onChange={(game) => change({ ...looked, game })}
        />
        <Choice
          label="Server"
          all="anywhere"
          options={servers}
          value={looked.server}
          onChange={(server) => change({ ...looked, server })}
        />
        <Switch
          isSelected={looked.aside}
          onChange={(aside) => change({ ...looked, aside })}
          style={{ paddingTop: "1.5rem" }}
        >
          Only what is set aside
        </Switch>
      </Columns>
    </Panel>
  );
}

function Row({ w, aside }: { w: World; aside: boolean }) {
  const c = w.copies[0];
  return (
    <tr>
      <td>
        <Picture
          size={48}
          src={c?.drawn ? copyPicture(c.id, 96) : undefined}
          of={w.title}
        />
      </td>
      <td>
        <Link
          to="/library/$world"
          params={{ world: aside && c ? c.id : w.name }}
        >
          <b>{quoted(w.title)}</b>
        </Link>
        {w.tags.map((t) => (
          <Tag key={t}>{t}</Tag>
        ))}
        <br />
        <code>{w.name}</code>
      </td>
      <td>{w.game}</td>
      <td>{c?.facts.facts.version?.text || "–"}</td>
      <td>
        <code>{c?.facts.facts.seed?.text || "–"}</code>
      </td>
      <td>{c?.facts.playerCount ?? 0}</td>
      <td>{bytes(c?.bytes ?? -1)}</td>
      <td>{when(c?.facts.lastPlayed)}</td>
      <td>{w.copies.length}</td>
      <td>{when(c?.createdAt)}</td>
    </tr>
  );
}

export function Library() {
  const [looked, setLooked] = useState<Looked>({ search: "", game: "", server: "", aside: false });
  const { aside } = looked;
  const [shown, setShown] = useState(atATime);
  const wanted = {
    search: looked.search.trim() || undefined,
    game: looked.game || undefined,
    server: looked.server || undefined,
    aside: aside || undefined,
  };
  const looksFor = Object.values(wanted).some(Boolean);
  const all = useQuery(queries.worlds());
  const worlds = useQuery({ ...queries.worlds(wanted), placeholderData: (old) => old });
  const filters = looksFor || (all.data?.length ?? 0) > 5;
  const games = [...new Set(all.data?.map((w) => w.game))].toSorted();
  const servers = [...new Set(all.data?.flatMap((w) => w.servers))].toSorted();
  return (
    <Page>
      <Head>
        <h1>Library</h1>
        {!filters && <Button onPress={() => setLooked({ ...looked, aside: true })}>What is set aside</Button>}
        <Link to="/vault">The vault</Link>
      </Head>
      <Arrivals />
      {worlds.isError && <Failure error={worlds.error} />}
      {filters && (
        <Filters
          looked={looked}
          change={setLooked}
          games={games}
          servers={servers}
        />
      )}
      {worlds.data?.length === 0 && looksFor && (
        <Panel>
          <Muted>{aside ? "Nothing is set aside." : "No world of the library has all of that."}</Muted>
        </Panel>
      )}
      {worlds.data?.length === 0 && !looksFor && (
        <Panel>
          <Muted>The library is empty. Nothing can be put onto a server before a world is here.</Muted>
        </Panel>
      )}
      {worlds.data && worlds.data.length > 0 && (
        <Panel>
          {worlds.data.length > atATime && (
            <About>
              {worlds.data.length} worlds{looksFor ? " have all of that" : ""}.
            </About>
          )}
          <Table>
            <thead>
              <tr>
                <th>
                  <span className="unseen">Picture</span>
                </th>
                <th>World</th>
                <th>Game</th>
                <th>Version</th>
                <th>Seed</th>
                <th>Players</th>
                <th>Size</th>
                <th>Last played</th>
                <th>Copies</th>
                <th>Came</th>
              </tr>
            </thead>
            <tbody>
              {worlds.data.slice(0, shown).map((w) => (
                <Row
                  key={w.name}
                  w={w}
                  aside={aside}
                />
              ))}
            </tbody>
          </Table>
          {worlds.data.length > shown && (
            <p style={{ marginTop: "0.8rem" }}>
              <Button onPress={() => setShown(shown + atATime)}>
                Show {Math.min(atATime, worlds.data.length - shown)} more
              </Button>
            </p>
          )}
        </Panel>
      )}
    </Page>
  );
}
