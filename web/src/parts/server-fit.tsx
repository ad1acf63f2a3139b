import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import styled from "styled-components";
import { type ServerFacts } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "./controls";
import { copyPicture, Failure, Muted, Panel, Picture, Table } from "./layout";
import { FitSheet } from "./sheet";
import { bytes, quoted, when } from "../words";

const Stack = styled.div`
  display: grid;
  gap: 1.2rem;
  grid-template-columns: minmax(0, 1fr);
`;

export function FitTab({ facts: { server: s } }: { facts: ServerFacts }) {
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
