import { useQuery } from "@tanstack/react-query";
import styled from "styled-components";
import { queries } from "../api/queries";
import { Failure, Head, Muted, Page, Panel } from "../parts/layout";

const Source = styled.details`
  margin-top: 0.5rem;
  summary { cursor: pointer; color: var(--accent); font-weight: 600; }
  pre { margin: 0.5rem 0 0; padding: 0.7rem 0.9rem; background: var(--raised); border: 1px solid var(--line); border-radius: 5px; white-space: pre-wrap; overflow-wrap: anywhere; }
`;

/** The games that the service knows, each with its profile. */
export function Games() {
  const games = useQuery(queries.games());
  return (
    <Page>
      <Head><h1>Games</h1></Head>
      {games.isError && <Failure error={games.error} />}
      {games.data?.map((g) => (
        <Panel key={g.id}>
          <h2>{g.title}</h2>
          <Muted><code>{g.id}</code> · kinds of server: {g.kinds.join(", ")}</Muted>
          <Source><summary>Profile of {g.title}</summary><pre>{g.profile}</pre></Source>
        </Panel>
      ))}
    </Page>
  );
}
