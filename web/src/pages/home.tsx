import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import styled from "styled-components";
import { type Changeover, type Server } from "../api/client";
import { queries } from "../api/queries";
import { Arrivals } from "../parts/arrivals";
import { Alerts } from "../parts/alerts";
import { Failure, Head, Loading, Muted, Page, Panel, Picture, serverPicture, Told } from "../parts/layout";
import { Mark, standing } from "../parts/marks";
import { count, sentence } from "../words";
import { Since } from "../parts/moment";
import { soonOf } from "../parts/soon";

/** How many of what happened lately are told here. */
const lately = 8;

const Fleet = styled.ul`
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(12rem, 1fr));
  gap: 0.6rem;
  margin-bottom: 1rem;
  &:empty {
    display: none;
  }
  a {
    display: flex;
    gap: 0.7rem;
    align-items: center;
    color: var(--ink);
    text-decoration: none;
  }
  a:hover b {
    text-decoration: underline;
  }
  span > b {
    display: block;
  }
  @media (max-width: 46rem) {
    grid-template-columns: repeat(2, minmax(0, 1fr));
    b {
      overflow-wrap: anywhere;
    }
  }
`;

const ends = new Set(["done", "undone"]);

/** Why a server needs somebody; "" when it does not. */
export function needs(s: Server): string {
  if (s.state === "unreachable") return s.trouble || "Its folder cannot be reached.";
  if (s.state === "exited")
    return `It ended on its own${s.exitCode ? ` with code ${s.exitCode}` : ""}; its log says why.`;
  if (s.asked)
    return s.asked.what === "start" ? "It waits for you to start it." : "It waits for you to stop it.";
  if (s.state === "unknown") return s.note || "It cannot be told whether it runs.";
  return s.trouble || s.amiss || "";
}

function ChangeoverRow({ c, at }: { c: Changeover; at: string | undefined }) {
  return (
    <li>
      <Mark of={standing(c)} />
      <Link
        to="/changeovers/$id"
        params={{ id: String(c.id) }}
      >
        {sentence(c.title)}
      </Link>
      <small>
        {c.server}, <Since at={at} />, {c.createdBy}
      </small>
    </li>
  );
}

/** What needs somebody, what runs now, what happened lately; and the way in for a world. */
export function Home() {
  const navigate = useNavigate();
  const servers = useQuery(queries.servers());
  const changeovers = useQuery(queries.changeovers());
  const alerts = useQuery(queries.alerts());
  const reports = useQuery(queries.report());
  const limits = useQuery(queries.limits());
  const soon = soonOf(servers.data ?? [], reports.data ?? [], limits.data?.servers ?? {});
  const list = changeovers.data ?? [];
  const waiting = list.filter((c) => c.state === "held" || c.state === "waiting");
  const running = list.filter((c) => !ends.has(c.state) && c.state !== "drafted" && !waiting.includes(c));
  const troubled = (servers.data ?? []).filter((s) => needs(s) !== "");
  const up = (servers.data ?? []).filter((s) => s.state === "running").length;
  const known = servers.data && changeovers.data && alerts.data;
  const quiet = known && troubled.length === 0 && waiting.length === 0 && alerts.data.length === 0;
  return (
    <Page>
      <Head>
        <h1>Home</h1>
        {quiet && <Mark of="fits">all is well</Mark>}
      </Head>
      {servers.isError && <Failure error={servers.error} />}
      {changeovers.isError && <Failure error={changeovers.error} />}
      {!known && !servers.isError && !changeovers.isError && <Loading say="Looking how all stands" />}
      {known && !quiet && (
        <>
          {(troubled.length > 0 || waiting.length > 0) && (
            <Panel>
              <h2>Needs somebody</h2>
              <Told>
                {waiting.map((c) => (
                  <ChangeoverRow
                    key={c.id}
                    c={c}
                    at={c.startedAt ?? c.createdAt}
                  />
                ))}
                {troubled.map((s) => (
                  <li key={s.name}>
                    <Mark of={s.amiss ? "choose" : s.state}>{s.amiss ? "look at it" : s.state}</Mark>
                    <span>
                      <Link
                        to="/servers/$server"
                        params={{ server: s.name }}
                        search={s.amiss ? { tab: "fit" } : {}}
                      >
                        {s.name}
                      </Link>{" "}
                      {needs(s)}
                    </span>
                    <small>{s.since && <Since at={s.since} />}</small>
                  </li>
                ))}
              </Told>
            </Panel>
          )}
          {alerts.data.length > 0 && <Alerts whole />}
        </>
      )}
      {servers.data?.length === 0 ? (
        <Panel>
          <h2>Begin with a server</h2>
          <p>
            Reshard moves worlds onto servers that it knows. <Link to="/add-server">Add the first one</Link>;
            then bring a world over.
          </p>
        </Panel>
      ) : (
        <section aria-label="Bring a world over">
          <Arrivals onArrived={(world) => void navigate({ to: "/bring", search: { world } })} />
        </section>
      )}
      {running.length > 0 && (
        <Panel>
          <h2>Runs now</h2>
          <Told>
            {running.map((c) => (
              <ChangeoverRow
                key={c.id}
                c={c}
                at={c.startedAt}
              />
            ))}
          </Told>
        </Panel>
      )}
      {soon.length > 0 && (
        <Panel>
          <h2>Soon</h2>
          <Told>
            {soon.slice(0, lately).map((o) => (
              <li key={o.key}>
                <Mark of="adjust">{o.key.split(" ")[0]}</Mark>
                <span>
                  <Link
                    to="/servers/$server"
                    params={{ server: o.server }}
                    search={{ tab: o.tab }}
                  >
                    {o.server}
                  </Link>{" "}
                  {o.says}
                </span>
                <small />
              </li>
            ))}
          </Told>
          {soon.length > lately && <Muted>And {soon.length - lately} more of that kind.</Muted>}
        </Panel>
      )}
      {known && (
        <Panel>
          <h2>Lately</h2>
          {servers.data.length > 0 && (
            <Muted style={{ marginBottom: "0.6rem" }}>
              {up} of <Link to="/servers">{count(servers.data.length, "server", "servers")}</Link> run
              {up === 1 ? "s" : ""}.
            </Muted>
          )}
          <Fleet>
            {servers.data.slice(0, lately).map((s) => (
              <li key={s.name}>
                <Link
                  to="/servers/$server"
                  params={{ server: s.name }}
                >
                  <Picture
                    size={52}
                    src={s.drawn && s.activeTitle ? serverPicture(s.name, s.active, s.since) : undefined}
                    of={s.activeTitle || s.active || s.name}
                  />
                  <span>
                    <b>{s.name}</b>
                    <Mark
                      of={s.state}
                      quiet
                    />
                  </span>
                </Link>
              </li>
            ))}
          </Fleet>
          <Told>
            {list
              .filter((c) => ends.has(c.state))
              .slice(0, lately)
              .map((c) => (
                <ChangeoverRow
                  key={c.id}
                  c={c}
                  at={c.startedAt ?? c.createdAt}
                />
              ))}
          </Told>
          {list.length === 0 && <Muted>Nothing has been changed yet.</Muted>}
        </Panel>
      )}
    </Page>
  );
}
