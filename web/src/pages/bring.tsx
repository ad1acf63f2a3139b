import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import styled from "styled-components";
import { type Server, type World } from "../api/client";
import { queries } from "../api/queries";
import { Arrivals } from "../parts/arrivals";
import {
  copyPicture,
  Crumb,
  Failure,
  Head,
  Loading,
  Muted,
  Page,
  Panel,
  Picture,
  serverPicture,
} from "../parts/layout";
import { Mark } from "../parts/marks";
import { whyNot } from "../parts/view";
import { bytes, count, quoted, when } from "../words";
import { ActiveWorld } from "./servers";

const Cards = styled.ul`
  display: grid;
  gap: 0.7rem;
  grid-template-columns: repeat(auto-fill, minmax(min(20rem, 100%), 1fr));
  & a {
    display: flex;
    gap: 0.9rem;
    align-items: center;
    height: 100%;
    padding: 0.7rem;
    border: 1px solid var(--line);
    border-radius: 7px;
    background: var(--sheet);
    color: var(--ink);
    text-decoration: none;
    overflow-wrap: anywhere;
    min-width: 0;
    &:hover {
      border-color: var(--accent);
    }
    b {
      display: block;
      font-size: 1.05rem;
    }
    small {
      color: var(--muted);
      display: block;
    }
    & > div {
      min-width: 0;
    }
  }
`;

const Apart = styled.ul`
  display: grid;
  gap: 0.4rem;
  margin-top: 0.4rem;
  small {
    color: var(--muted);
    margin-left: 0.5rem;
  }
`;

/** How many worlds of the library are offered here; the rest is in the library. */
const offered = 12;

const putting = (server: string, world: string) =>
  ({ to: "/change", search: { kind: "put", server, world } }) as const;

/** The first part: a world that comes, or one that is there. */
function WhichWorld({ server }: { server: string | undefined }) {
  const navigate = useNavigate();
  const all = useQuery(queries.worlds());
  const servers = useQuery({ ...queries.servers(), enabled: server !== undefined });
  const game = servers.data?.find((s) => s.name === server)?.game;
  const worlds = { ...all, data: all.data?.filter((w) => !game || w.game === game) };
  return (
    <>
      <Arrivals
        onArrived={(world) =>
          server
            ? void navigate({ to: "/change", search: { kind: "put", server, world } })
            : void navigate({ to: "/bring", search: { world } })
        }
      />
      {worlds.isError && <Failure error={worlds.error} />}
      {worlds.data && worlds.data.length > 0 && (
        <Panel>
          <h2>Or one of the library</h2>
          <Cards>
            {worlds.data.slice(0, offered).map((w) => (
              <li key={w.name}>
                <Link {...(server ? putting(server, w.name) : { to: "/bring", search: { world: w.name } })}>
                  <Picture
                    size={56}
                    src={w.copies[0]?.drawn ? copyPicture(w.copies[0].id, 112) : undefined}
                    of={w.title}
                  />
                  <div>
                    <b>{quoted(w.title)}</b>
                    <small>
                      {w.game}, played {when(w.copies[0]?.facts.lastPlayed)}
                    </small>
                  </div>
                </Link>
              </li>
            ))}
          </Cards>
          {worlds.data.length > offered && (
            <p style={{ marginTop: "0.8rem" }}>
              <Link to="/library">All {worlds.data.length} worlds</Link>
            </p>
          )}
        </Panel>
      )}
    </>
  );
}

/** One server that could take the world, and how well it fits there as it is. */
function Candidate({ world, server: s }: { world: string; server: Server }) {
  const sheet = useQuery({
    ...queries.sheet({ kind: "put", world, server: s.name, choices: {} }),
    retry: false,
  });
  const verdict = sheet.data?.sheet.verdict;
  const first = sheet.data?.sheet.rows.find((r) => r.verdict === verdict && verdict !== "fits");
  return (
    <li>
      <Link
        to="/change"
        search={{ kind: "put", server: s.name, world }}
      >
        <Picture
          size={56}
          src={s.drawn && s.activeTitle ? serverPicture(s.name, s.active, s.since) : undefined}
          of={s.activeTitle || s.active || s.name}
        />
        <div>
          <b>{s.name}</b>
          <small>
            now <ActiveWorld server={s} />
          </small>
          {verdict ? (
            <Mark of={verdict}>{fitWords[verdict] ?? verdict}</Mark>
          ) : (
            <small>{sheet.isError ? sheet.error.message : "Looking …"}</small>
          )}
          {first && <small>{first.say}</small>}
        </div>
      </Link>
    </li>
  );
}

const fitWords: Record<string, string> = {
  fits: "fits as it is",
  adjust: "fits, settings change with it",
  choose: "asks you something",
  blocks: "does not fit as it is",
};

/** The second part: every server that could take it, and of the others why not. */
function WhichServer({ world: w }: { world: World }) {
  const servers = useQuery(queries.servers());
  if (servers.isError) return <Failure error={servers.error} />;
  if (!servers.data) return <Loading say="Looking at the servers" />;
  const could = servers.data.filter((s) => whyNot(s, w.game) === "");
  const others = servers.data.filter((s) => whyNot(s, w.game) !== "");
  return (
    <>
      <h2>Onto which server?</h2>
      {could.length === 0 && (
        <Panel>
          <Muted>
            No server could take it now. Add one that runs {w.game}, or come back later: the world stays in
            the library.
          </Muted>
        </Panel>
      )}
      <Cards aria-label="Servers that could take it">
        {could.map((s) => (
          <Candidate
            key={s.name}
            world={w.name}
            server={s}
          />
        ))}
        <li>
          <Link
            to="/add-server"
            search={{ world: w.name }}
          >
            <div>
              <b>A server that is not here yet …</b>
              <small>on this machine, over SSH, SFTP or FTP, or a rented one</small>
            </div>
          </Link>
        </li>
      </Cards>
      {others.length > 0 && (
        <details>
          <summary>{count(others.length, "other server cannot", "other servers cannot")} take it</summary>
          <Apart>
            {others.map((s) => (
              <li key={s.name}>
                {s.name} <small>{whyNot(s, w.game)}</small>
              </li>
            ))}
          </Apart>
        </details>
      )}
    </>
  );
}

/** A world comes over: which world, onto which server; what differs, the plan and the proof follow from there. */
export function Bring() {
  const { world, server } = useSearch({ from: "/bring" });
  const got = useQuery({ ...queries.world(world ?? ""), enabled: Boolean(world) });
  const w = got.data;
  const last = w?.copies[0];
  return (
    <Page>
      <div>
        <Crumb>
          {world ? (
            <Link
              to="/bring"
              search={{}}
            >
              Another world
            </Link>
          ) : (
            <Link to="/">Home</Link>
          )}
        </Crumb>
        <Head>
          {w && (
            <Picture
              size={72}
              src={last?.drawn ? copyPicture(last.id, 144) : undefined}
              of={w.title}
            />
          )}
          <h1>
            {w ? (
              <>Bring {quoted(w.title)} over</>
            ) : server ? (
              <>Bring a world onto {server}</>
            ) : (
              "Bring a world over"
            )}
          </h1>
        </Head>
        {w && last && (
          <Muted>
            {w.game}
            {last.facts.facts.version?.text && ` ${last.facts.facts.version.text}`}, {bytes(last.bytes)},{" "}
            {count(last.facts.playerCount, "player", "players")}, last played {when(last.facts.lastPlayed)}.{" "}
            <Link
              to="/library/$world"
              params={{ world: w.name }}
            >
              All about it
            </Link>
          </Muted>
        )}
        {last?.facts.warnings.map((say) => (
          <Muted key={say}>! {say}</Muted>
        ))}
      </div>
      {got.isError && world && <Failure error={got.error} />}
      {!world && <WhichWorld server={server} />}
      {world && got.isPending && <Loading say="Reading what is known of the world" />}
      {w && <WhichServer world={w} />}
    </Page>
  );
}
