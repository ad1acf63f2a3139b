import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "./controls";
import { Field } from "./form";
import { Failure, Muted, Panel, Table } from "./layout";
import { bytes, when } from "../words";

const Typed = styled.form`
  display: flex;
  gap: 0.8rem;
  align-items: end;
  flex-wrap: wrap;
  padding: 0.4rem 0 0.2rem;
`;

/** What changeovers have set aside, the rule that removes it, and removing it now. */
export function AsideTab({ server }: { server: string }) {
  const client = useQueryClient();
  const list = useQuery(queries.aside(server));
  const [going, setGoing] = useState<number>();
  const [typed, setTyped] = useState("");
  const tidy = useMutation({
    mutationFn: (id: number) => api.tidy(server, id, typed),
    onSuccess: () => {
      setGoing(undefined);
      setTyped("");
      return client.invalidateQueries({ queryKey: ["aside", server] });
    },
  });
  if (list.isError) return <Failure error={list.error} />;
  return (
    <Panel>
      <h2>Set aside on {server}</h2>
      <Muted>
        Changeovers delete nothing. What they put out of the way stays on the server's own disk until its time
        has passed.
      </Muted>
      {list.data?.length === 0 && <p>Nothing is set aside.</p>}
      {list.data && list.data.length > 0 && (
        <Table>
          <thead>
            <tr>
              <th>Name</th>
              <th>Holds</th>
              <th>Size</th>
              <th>Since</th>
              <th>Goes</th>
              <th>
                <span className="unseen">Remove</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {list.data.map((a) => (
              <tr key={a.name}>
                <td>
                  <code>{a.name}</code>
                </td>
                <td>
                  {a.holds?.map((h) => (
                    <div key={h}>{h}</div>
                  ))}
                  {going === a.changeover && (
                    <Typed
                      onSubmit={(e) => {
                        e.preventDefault();
                        tidy.mutate(a.changeover);
                      }}
                    >
                      <Field
                        label={`Type ${a.name} to remove it for good`}
                        value={typed}
                        onChange={setTyped}
                      />
                      <Button
                        type="submit"
                        look="grave"
                        isDisabled={typed !== a.name || tidy.isPending}
                      >
                        Remove it for good
                      </Button>
                      <Button
                        onPress={() => {
                          setGoing(undefined);
                          setTyped("");
                        }}
                      >
                        Keep it
                      </Button>
                    </Typed>
                  )}
                </td>
                <td>{bytes(a.bytes)}</td>
                <td>{when(a.since)}</td>
                <td>
                  {a.goes ? when(a.goes) : "stays"}
                  <br />
                  <Muted as="small">{a.rule}</Muted>
                </td>
                <td>
                  {a.removable && going !== a.changeover && (
                    <Button
                      onPress={() => {
                        setGoing(a.changeover);
                        setTyped("");
                      }}
                      aria-label={`Remove ${a.name} …`}
                    >
                      Remove …
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      {tidy.isError && <Failure error={tidy.error} />}
    </Panel>
  );
}
