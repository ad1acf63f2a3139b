import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { Label, Radio, RadioGroup } from "react-aria-components";
import styled from "styled-components";
import { api } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
import { Columns, Field } from "../parts/form";
import { Crumb, Failure, Head, Page, Panel } from "../parts/layout";
import { splitCommand } from "../words";

const Kinds = styled(RadioGroup)`
  grid-column: 1 / -1;
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  align-items: center;
  label:first-child {
    font-weight: 600;
    font-size: 0.9rem;
  }
  .kind {
    border: 1px solid var(--line-strong);
    border-radius: 5px;
    padding: 0.25rem 0.7rem;
    cursor: pointer;
    background: var(--raised);
  }
  .kind[data-selected] {
    border-color: var(--accent);
    background: var(--accent-soft);
  }
  .kind[data-focus-visible] {
    outline: 2px solid var(--focus);
  }
`;

/** Tells the service of a game server on its host. */
export function AddServer() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const games = useQuery(queries.games());
  const [name, setName] = useState("");
  const [root, setRoot] = useState("");
  const [command, setCommand] = useState("");
  const [kind, setKind] = useState("");
  const add = useMutation({
    mutationFn: () => {
      const [game = "", k = ""] = kind.split(" ");
      return api.addServer({ name, game, kind: k, root, command: splitCommand(command) });
    },
    onSuccess: async (s) => {
      await client.invalidateQueries({ queryKey: ["servers"] });
      await navigate({ to: "/servers/$server", params: { server: s.server.name } });
    },
  });
  return (
    <Page>
      <div>
        <Crumb>
          <Link to="/servers">Servers</Link>
        </Crumb>
        <Head>
          <h1>Add a server</h1>
        </Head>
      </div>
      {games.isError && <Failure error={games.error} />}
      <Panel>
        <Columns
          onSubmit={(e) => {
            e.preventDefault();
            add.mutate();
          }}
        >
          <Kinds
            value={kind || null}
            onChange={setKind}
          >
            <Label>Game and kind</Label>
            {games.data?.flatMap((g) =>
              g.kinds.map((k) => (
                <Radio
                  key={`${g.id} ${k}`}
                  value={`${g.id} ${k}`}
                  className="kind"
                >
                  {g.title}, {k}
                </Radio>
              )),
            )}
          </Kinds>
          <Field
            label="Name of the server"
            value={name}
            onChange={setName}
            autoComplete="off"
            hint="a-z, 0-9 and hyphen; for commands and addresses"
          />
          <Field
            label="Folder"
            value={root}
            onChange={setRoot}
            autoComplete="off"
            hint="The server's folder on the service's host, its whole path"
          />
          <Field
            label="Start command"
            value={command}
            onChange={setCommand}
            autoComplete="off"
            className="wide"
            hint="Program and arguments, as a shell would take them. It is run in the folder, with the rights of the service."
          />
          <div className="wide">
            <Button
              look="main"
              type="submit"
              isDisabled={!name || !root || !command || !kind || add.isPending}
            >
              Add the server
            </Button>
          </div>
        </Columns>
      </Panel>
      {add.isError && <Failure error={add.error} />}
    </Page>
  );
}
