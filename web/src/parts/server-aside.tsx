import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import styled from "styled-components";
import { api, type Aside } from "../api/client";
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

/** The name of a working folder, by which it is asked for. */
const folderOf = (a: Aside) => a.folder.slice(a.folder.lastIndexOf("/") + 1);

/** Removes something that is set aside, once its name has been typed. */
function Removal({ server, of: a }: { server: string; of: Aside }) {
  const client = useQueryClient();
  const [asked, ask] = useState(false);
  const [typed, setTyped] = useState("");
  const tidy = useMutation({
    mutationFn: () => api.tidy(server, folderOf(a), typed),
    onSuccess: () =>
      Promise.all([["aside", server], ["alerts"]].map((queryKey) => client.invalidateQueries({ queryKey }))),
  });
  const over = () => {
    ask(false);
    setTyped("");
  };
  if (!asked)
    return (
      <Button
        onPress={() => ask(true)}
        aria-label={`Remove ${a.name} …`}
      >
        Remove …
      </Button>
    );
  return (
    <Typed
      onSubmit={(e) => {
        e.preventDefault();
        tidy.mutate();
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
      <Button onPress={over}>Cancel</Button>
      {tidy.isError && <Failure error={tidy.error} />}
    </Typed>
  );
}

const Panels = styled.div`
  display: grid;
  gap: 1.2rem;
  grid-template-columns: minmax(0, 1fr);
`;

/** What changeovers have set aside, the rule that removes it, and removing it now. */
export function AsideTab({ server }: { server: string }) {
  const list = useQuery(queries.aside(server));
  if (list.isError) return <Failure error={list.error} />;
  const known = list.data?.filter((a) => !a.unknown);
  const unknown = list.data?.filter((a) => a.unknown) ?? [];
  return (
    <Panels>
      {unknown.length > 0 && (
        <Unknown
          server={server}
          list={unknown}
        />
      )}
      <Panel>
        <h2>Set aside on {server}</h2>
        <Muted>
          Changeovers delete nothing. What they put out of the way stays on the server’s own disk until its
          time has passed.
        </Muted>
        {known?.length === 0 && <p>Nothing is set aside.</p>}
        {known && known.length > 0 && (
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
              {known.map((a) => (
                <tr key={a.name}>
                  <td>
                    <code>{a.name}</code>
                  </td>
                  <td>
                    <div>
                      {a.holds?.map((h) => (
                        <div key={h}>{h}</div>
                      ))}
                    </div>
                  </td>
                  <td>{bytes(a.bytes)}</td>
                  <td>{when(a.since)}</td>
                  <td>
                    <div>
                      {a.goes ? when(a.goes) : "stays"}
                      <br />
                      <Muted as="small">{a.rule}</Muted>
                    </div>
                  </td>
                  <td>
                    {a.removable && (
                      <Removal
                        server={server}
                        of={a}
                      />
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        )}
      </Panel>
    </Panels>
  );
}

const Row = styled.li`
  display: grid;
  gap: 0.5rem;
  padding: 0.7rem 0;
  border-top: 1px solid var(--line);
`;

const Acts = styled.div`
  display: flex;
  gap: 0.7rem;
  align-items: center;
  flex-wrap: wrap;
`;

/** Folders of changeovers that are not on record: what they hold, and what can be done. */
function Unknown({ server, list }: { server: string; list: Aside[] }) {
  return (
    <Panel>
      <h2>Of changeovers that are not known here</h2>
      <Muted>
        These records are older than the folders below. Reshard leaves them alone until you decide: keep one
        as it is, take a world to the library and put it back from there, or remove a folder for good.
      </Muted>
      <ul style={{ marginTop: "0.8rem" }}>
        {list.map((a) => (
          <Row key={a.name}>
            <UnknownFolder
              server={server}
              of={a}
            />
          </Row>
        ))}
      </ul>
    </Panel>
  );
}

function UnknownFolder({ server, of: a }: { server: string; of: Aside }) {
  const client = useQueryClient();
  const keep = useMutation({
    mutationFn: () => api.keepAside(server, folderOf(a)),
    onSettled: () =>
      Promise.all([["aside", server], ["alerts"]].map((queryKey) => client.invalidateQueries({ queryKey }))),
  });
  const worlds = a.worlds ?? [];
  return (
    <>
      <p>
        <code>{a.name}</code> <Muted as="span">{bytes(a.bytes)}</Muted>
      </p>
      {worlds.length === 0 && <p>{a.holds?.join(", ")}</p>}
      {worlds.map((w) => (
        <Acts key={`${w.part}/${w.world}`}>
          <span>
            <b>{w.title || w.world}</b> ({w.world}), {bytes(w.bytes)}
            {w.lastPlayed && <>, last played {when(w.lastPlayed)}</>}: {w.what}
          </span>
          <Link
            to="/change"
            search={{ kind: "take-away", server, world: w.world, aside: `${folderOf(a)}/${w.part}` }}
          >
            Take it to the library …
          </Link>
        </Acts>
      ))}
      <Acts>
        {a.keptBy ? (
          <Muted>Kept as it is by {a.keptBy}.</Muted>
        ) : (
          <Button
            isDisabled={keep.isPending}
            onPress={() => keep.mutate()}
            aria-label={`Keep ${a.name} as it is`}
          >
            Keep it as it is
          </Button>
        )}
        <Removal
          server={server}
          of={a}
        />
      </Acts>
      {keep.isError && <Failure error={keep.error} />}
    </>
  );
}
