import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import styled from "styled-components";
import { api, type Game } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
import { Answer, Failure, Head, Muted, Page, Panel, Picture, Table } from "../parts/layout";
import { when } from "../words";

const Source = styled.details`
  margin-top: 0.5rem;
  summary {
    cursor: pointer;
    color: var(--accent);
    font-weight: 600;
  }
  pre {
    margin: 0.5rem 0 0;
    padding: 0.7rem 0.9rem;
    background: var(--raised);
    border: 1px solid var(--line);
    border-radius: 5px;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
`;

const Line = styled.div`
  display: flex;
  gap: 0.9rem;
  align-items: center;
  flex-wrap: wrap;
  h2 {
    margin: 0;
  }
  p {
    margin-right: auto;
  }
`;

/** The games that the service knows, each with its profile and where that comes from. */
export function Games() {
  const games = useQuery(queries.games());
  return (
    <Page>
      <Head>
        <h1>Games</h1>
        <Link
          to="/games/edit"
          search={{ game: "" }}
        >
          Write a profile
        </Link>
      </Head>
      <Muted>
        What Reshard knows of a game stands in its profile: where worlds are, what settings mean, how a server
        is stopped. For another game, write one.
      </Muted>
      <Answer
        of={games}
        waiting="Reading which games are known"
      >
        {(list) =>
          list.map((g) => (
            <OneGame
              key={g.id}
              game={g}
            />
          ))
        }
      </Answer>
    </Page>
  );
}

function originText(g: Game): string {
  if (g.origin !== "uploaded")
    return g.origin === "shipped" ? "ships with Reshard" : "from the service’s folder";
  const under = g.overrides === "shipped" ? "ships" : "is in the folder";
  const over = g.overrides ? `, over the one that ${under}` : "";
  return `version ${g.version}, saved by ${g.savedBy}, ${when(g.savedAt)}${over}`;
}

function OneGame({ game: g }: { game: Game }) {
  const client = useQueryClient();
  const withdraw = useMutation({
    mutationFn: () => api.withdrawGame(g.id),
    onSuccess: () => client.invalidateQueries({ queryKey: ["games"] }),
  });
  return (
    <Panel>
      <Line>
        <Picture
          size={40}
          of={g.title}
        />
        <h2>{g.title}</h2>
        <Muted>
          <code>{g.id}</code> · kinds of server: {g.kinds.join(", ")} · {originText(g)}
        </Muted>
        {g.origin === "uploaded" && (
          <Button
            isDisabled={withdraw.isPending}
            onPress={() => withdraw.mutate()}
          >
            Take it out of use
          </Button>
        )}
        <Link
          to="/games/edit"
          search={{ game: g.id }}
          aria-label={`Edit the profile of ${g.title}`}
        >
          Edit
        </Link>
      </Line>
      {withdraw.isError && <Failure error={withdraw.error} />}
      <Source>
        <summary>Profile of {g.title}</summary>
        <pre>{g.profile}</pre>
      </Source>
      {g.origin === "uploaded" && <Versions game={g.id} />}
    </Panel>
  );
}

function Versions({ game }: { game: string }) {
  const versions = useQuery(queries.gameVersions(game));
  return (
    <Source>
      <summary>Every version of {game}</summary>
      {versions.isError && <Failure error={versions.error} />}
      <Table>
        <thead>
          <tr>
            <th>Version</th>
            <th>Saved</th>
            <th>By</th>
            <th>Out of use since</th>
          </tr>
        </thead>
        <tbody>
          {versions.data?.map((v) => (
            <tr key={v.version}>
              <td>{v.version}</td>
              <td>{when(v.savedAt)}</td>
              <td>{v.savedBy}</td>
              <td>{v.withdrawnAt ? when(v.withdrawnAt) : ""}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </Source>
  );
}
