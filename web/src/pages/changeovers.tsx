import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import type { Changeover } from "../api/client";
import { queries } from "../api/queries";
import { Answer, Head, Muted, Page, Panel, Table } from "../parts/layout";
import { Mark, standing } from "../parts/marks";
import { millis, sentence, when } from "../words";

export function ChangeoverTable({ list }: { list: Changeover[] }) {
  if (list.length === 0)
    return (
      <Muted>
        Nothing has been changed yet. <Link to="/bring">Bring a world over</Link>, and what was done stands
        here, each with the way back.
      </Muted>
    );
  return (
    <Table>
      <thead>
        <tr>
          <th>No.</th>
          <th>State</th>
          <th>What</th>
          <th>Server</th>
          <th>When</th>
          <th>By</th>
          <th>Locked out</th>
          <th>
            <span className="unseen">Undo</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {list.map((c) => (
          <tr key={c.id}>
            <td>{c.id}</td>
            <td>
              <Mark of={standing(c)} />
            </td>
            <td>
              <Link
                to="/changeovers/$id"
                params={{ id: String(c.id) }}
              >
                {sentence(c.title)}
              </Link>
            </td>
            <td>{c.server}</td>
            <td>{when(c.startedAt ?? c.createdAt)}</td>
            <td>{c.createdBy}</td>
            <td>{c.window ? millis(c.window.totalMs) : "–"}</td>
            <td>{c.undoneBy ? `undone by ${c.undoneBy}` : c.undoable ? "can be undone" : ""}</td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

export function Changeovers() {
  const list = useQuery(queries.changeovers());
  return (
    <Page>
      <Head>
        <h1>Changeovers</h1>
      </Head>
      <Answer
        of={list}
        waiting="Reading what was changed"
      >
        {(all) => (
          <Panel>
            <ChangeoverTable list={all} />
          </Panel>
        )}
      </Answer>
    </Page>
  );
}
