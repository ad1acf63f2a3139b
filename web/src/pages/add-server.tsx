import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { Label, Radio, RadioGroup } from "react-aria-components";
import styled from "styled-components";
import { api, type Host } from "../api/client";
import { queries } from "../api/queries";
import { AddHost } from "../parts/add-host";
import { Button } from "../parts/controls";
import { Columns, Field } from "../parts/form";
import { Crumb, Failure, Head, Muted, Page, Panel } from "../parts/layout";
import { quoted, splitCommand } from "../words";

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

const ways = [
  { by: "session", says: "in a session there" },
  { by: "unit", says: "as a systemd unit" },
  { by: "provider", says: "by its provider's own interface" },
  { by: "hand", says: "by hand: people do, and say so" },
] as const;
type Way = (typeof ways)[number]["by"];

/** The ways in which a server on a host can be started and stopped. */
function waysOn(host: Host | undefined) {
  const commands = host?.kind === "ssh" && host.found?.set.commands !== false;
  return ways.filter(({ by }) => (by === "hand" ? true : by === "provider" ? host?.provider : commands));
}

/** Stands for a host that is not known yet. */
const another = "\0another";

/** Tells the service of a game server on its host; with a world that waits to be put there, goes on with that. */
export function AddServer() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const { world } = useSearch({ from: "/add-server" });
  const games = useQuery(queries.games());
  const waiting = useQuery({ ...queries.world(world ?? ""), enabled: Boolean(world) }).data;
  const [name, setName] = useState("");
  const [root, setRoot] = useState("");
  const [command, setCommand] = useState("");
  const [picked, setKind] = useState("");
  const hosts = useQuery(queries.hosts());
  const [host, setHost] = useState("local");
  const [chosen, setBy] = useState<Way>("session");
  // Whoever brings a world over adds a server of its game.
  const kinds = (games.data ?? [])
    .filter((g) => !waiting || g.id === waiting.game)
    .flatMap((g) => g.kinds.map((k) => ({ id: `${g.id} ${k}`, says: `${g.title}, ${k}` })));
  const kind = picked || (kinds.length === 1 ? (kinds[0]?.id ?? "") : "");
  const possible = waysOn(hosts.data?.find((h) => h.name === host));
  const by = possible.find((w) => w.by === chosen)?.by ?? possible[0]?.by ?? "hand";
  const elsewhere = host !== "local" && host !== another;
  const needsCommand = !elsewhere || by === "session";
  const complete = name && root && kind && (command || !(needsCommand || by === "unit" || by === "provider"));
  const add = useMutation({
    mutationFn: () => {
      const [game = "", k = ""] = kind.split(" ");
      const control = elsewhere
        ? {
            by,
            unit: by === "unit" ? command : undefined,
            machine: by === "provider" ? command : undefined,
          }
        : undefined;
      return api.addServer({
        name,
        game,
        kind: k,
        root,
        host,
        control,
        command: needsCommand ? splitCommand(command) : [],
      });
    },
    onSuccess: async (s) => {
      await client.invalidateQueries({ queryKey: ["servers"] });
      await (world
        ? navigate({ to: "/change", search: { kind: "put", server: s.server.name, world } })
        : navigate({ to: "/servers/$server", params: { server: s.server.name } }));
    },
  });
  return (
    <Page>
      <div>
        <Crumb>
          {world ? (
            <Link
              to="/bring"
              search={{ world }}
            >
              {waiting ? `Bring ${quoted(waiting.title)} over` : "Back"}
            </Link>
          ) : (
            <Link to="/servers">Servers</Link>
          )}
        </Crumb>
        <Head>
          <h1>Add a server</h1>
        </Head>
        <Muted>
          A game server that is set up already. Nothing there is changed by adding it.
          {waiting && ` Then comes what differs between it and ${quoted(waiting.title)}.`}
        </Muted>
      </div>
      {games.isError && <Failure error={games.error} />}
      <Panel>
        <Kinds
          value={host}
          onChange={setHost}
        >
          <Label>It lives on</Label>
          {hosts.data?.map((h) => (
            <Radio
              key={h.name}
              value={h.name}
              className="kind"
            >
              {h.name === "local" ? "the service’s own machine" : h.name}
            </Radio>
          ))}
          <Radio
            value={another}
            className="kind"
          >
            another machine …
          </Radio>
        </Kinds>
      </Panel>
      {host === another && <AddHost onAdded={setHost} />}
      {host !== another && (
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
              {kinds.map((k) => (
                <Radio
                  key={k.id}
                  value={k.id}
                  className="kind"
                >
                  {k.says}
                </Radio>
              ))}
            </Kinds>
            {elsewhere && (
              <Kinds
                value={by}
                onChange={(v) => setBy(v as Way)}
              >
                <Label>Started and stopped</Label>
                {possible.map((w) => (
                  <Radio
                    key={w.by}
                    value={w.by}
                    className="kind"
                  >
                    {w.says}
                  </Radio>
                ))}
              </Kinds>
            )}
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
              hint="The server's folder on its host, its whole path"
            />
            {(needsCommand || by === "unit" || by === "provider") && (
              <Field
                label={
                  needsCommand
                    ? "Start command"
                    : by === "unit"
                      ? "systemd unit"
                      : "What the provider calls the server"
                }
                value={command}
                onChange={setCommand}
                autoComplete="off"
                className="wide"
                hint={
                  needsCommand
                    ? "Program and arguments, as a shell would take them. It is run in the folder, with the rights of the " +
                      (elsewhere ? "account." : "service.")
                    : by === "unit"
                      ? "Its name as systemctl shows it. The account must be allowed to start and stop it."
                      : "As its description says where to find it, letter by letter."
                }
              />
            )}
            <div className="wide">
              <Button
                look="main"
                type="submit"
                isDisabled={!complete || add.isPending}
              >
                Add the server
              </Button>
            </div>
          </Columns>
        </Panel>
      )}
      {add.isError && <Failure error={add.error} />}
    </Page>
  );
}
