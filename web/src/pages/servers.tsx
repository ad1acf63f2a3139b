import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import styled from "styled-components";
import type { Server } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
import { Field } from "../parts/form";
import { serverPicture, Failure, Head, Muted, Page, Panel, Picture } from "../parts/layout";
import { Mark } from "../parts/marks";
import { quoted, when } from "../words";

const Rows = styled.ul`
  display: grid;
  gap: 0.7rem;
  li {
    display: grid;
    grid-template-columns: 64px minmax(0, 1.5fr) minmax(0, 1fr) 13rem;
    gap: 1rem;
    align-items: center;
    background: var(--sheet);
    border: 1px solid var(--line);
    border-radius: 7px;
    padding: 0.7rem 1rem 0.7rem 0.7rem;
    box-shadow: var(--shadow);
  }
  a {
    font-weight: 650;
    font-size: 1.08rem;
  }
  small {
    color: var(--muted);
    display: block;
    font-size: 0.9rem;
  }
  li > :last-child {
    justify-self: end;
    text-align: right;
  }
  code {
    overflow-wrap: anywhere;
  }
  @media (max-width: 760px) {
    li {
      grid-template-columns: 64px minmax(0, 1fr);
    }
    li > div {
      grid-column: 2;
    }
    li > :last-child {
      justify-self: start;
      text-align: left;
    }
  }
`;

/** The active world in words: title and folder name are never mixed up. */
export function ActiveWorld({ server }: { server: Server }) {
  if (!server.active) return <>no world named in the settings</>;
  if (!server.activeTitle)
    return (
      <>
        folder <code>{quoted(server.active)}</code>
      </>
    );
  return (
    <>
      {quoted(server.activeTitle)}{" "}
      <small>
        folder <code>{server.active}</code>
      </small>
    </>
  );
}

/** One server of the list. */
function Row({ server: s }: { server: Server }) {
  return (
    <li>
      <Picture
        size={64}
        src={s.drawn && s.activeTitle ? serverPicture(s.name, s.active, s.since) : undefined}
        of={s.activeTitle}
      />
      <div>
        <Link
          to="/servers/$server"
          params={{ server: s.name }}
        >
          {s.name}
        </Link>
        <small>
          {s.game}, {s.kind}
          {s.join && (
            <>
              {" "}
              · players join at <code>{s.join}</code>
            </>
          )}
        </small>
        {s.note && <small>{s.note}</small>}
        {s.trouble && <small>{s.trouble}</small>}
      </div>
      <div>
        <ActiveWorld server={s} />
      </div>
      <div>
        <Mark of={s.state} />
        <Doing server={s} />
      </div>
    </li>
  );
}

/** What holds a server, or since when it is as it is. */
function Doing({ server: s }: { server: Server }) {
  if (s.changeover) {
    return (
      <small>
        <Link
          to="/changeovers/$id"
          params={{ id: String(s.changeover) }}
        >
          changeover {s.changeover}
        </Link>
      </small>
    );
  }
  if (s.since) return <small>since {when(s.since)}</small>;
  return s.state === "exited" && <small>on its own; its log says why</small>;
}

/** All that a person may look for of a server, as one text. */
const told = (s: Server) =>
  [s.name, s.game, s.kind, s.host, s.root, s.state, s.active, s.activeTitle].join(" ").toLowerCase();

/** From how many servers on there is a field to search them. */
const many = 6;

export function Servers() {
  const navigate = useNavigate();
  const servers = useQuery(queries.servers());
  const [search, setSearch] = useState("");
  const words = search.toLowerCase().split(/\s+/);
  const found = servers.data?.filter((s) => words.every((w) => told(s).includes(w)));
  return (
    <Page>
      <Head>
        <h1>Servers</h1>
        <Button onPress={() => void navigate({ to: "/add-server" })}>Add a server</Button>
      </Head>
      {servers.isError && <Failure error={servers.error} />}
      {servers.data?.length === 0 && (
        <Panel>
          <Muted>No servers yet. Add one that runs on the service's host.</Muted>
        </Panel>
      )}
      {servers.data && servers.data.length >= many && (
        <Field
          label="Search"
          value={search}
          onChange={setSearch}
          hint="names, games, worlds, states"
        />
      )}
      {search && found?.length === 0 && <Muted>No server has all of that.</Muted>}
      <Rows>
        {found?.map((s) => (
          <Row
            key={s.name}
            server={s}
          />
        ))}
      </Rows>
    </Page>
  );
}
