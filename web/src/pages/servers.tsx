import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import styled from "styled-components";
import type { Server } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
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

export function Servers() {
  const navigate = useNavigate();
  const servers = useQuery(queries.servers());
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
      <Rows>
        {servers.data?.map((s) => (
          <li key={s.name}>
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
              {s.changeover ? (
                <small>
                  <Link
                    to="/changeovers/$id"
                    params={{ id: String(s.changeover) }}
                  >
                    changeover {s.changeover}
                  </Link>
                </small>
              ) : s.since ? (
                <small>since {when(s.since)}</small>
              ) : (
                s.state === "exited" && <small>on its own; its log says why</small>
              )}
            </div>
          </li>
        ))}
      </Rows>
    </Page>
  );
}
