import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useRouterState, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { TabPanel, Tabs } from "react-aria-components";
import { api, Problem, type Server, type ServerFacts } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
import { DespiteSigns } from "../parts/despite-signs";
import { Intended } from "../parts/intended";
import { Tab, TabList } from "../parts/tabs";
import { Answer, Crumb, Failure, Head, Muted, Page, Panel } from "../parts/layout";
import { Log } from "../parts/log";
import { Mark } from "../parts/marks";
import { ChangeoverTable } from "./changeovers";
import { ServerBackups } from "../parts/backups";
import { Happened, Holder } from "../parts/happened";
import { AsideTab } from "../parts/server-aside";
import { FitTab } from "../parts/server-fit";
import { ProviderSlots } from "../parts/slots";
import { WorldTab } from "../parts/server-worlds";

/** Why the server's state cannot be told, or whose word for it is taken; and giving one's own. */
function StateNote({ server: s, saying, onSay, busy }: Noted) {
  if (!s.note) return null;
  return (
    <Panel>
      {s.note}{" "}
      {s.state === "unknown" && (
        <Muted>
          Until it can be told, Reshard moves, writes and starts nothing there. When you know that it is
          stopped, say so: your word stands in for it, and proofs name it.
        </Muted>
      )}
      {s.state === "unknown" && saying && (
        <>
          <p style={{ margin: "0.6rem 0" }}>
            <strong>
              If it runs all the same, its world is moved away under it and what is played is lost.
            </strong>
          </p>
          <Button
            look="grave"
            onPress={() => onSay()}
            isDisabled={busy}
          >
            It is stopped
          </Button>
        </>
      )}
    </Panel>
  );
}

type Noted = { server: Server; saying: boolean; onSay: () => void; busy: boolean };

/** What is to be known of a server, by concern. */
function ServerTabs({ facts }: { facts: ServerFacts }) {
  const { tab } = useSearch({ from: "/servers/$server" });
  const navigate = useNavigate();
  const at = useRouterState({ select: (s) => s.location.pathname });
  const { name, trouble } = facts.server;
  const rented = facts.server.control?.by === "provider";
  return (
    <Tabs
      selectedKey={tab ?? "world"}
      onSelectionChange={(key) => {
        // It is also told while a page that is being left takes its tabs apart.
        if (key === (tab ?? "world") || !at.endsWith(encodeURIComponent(name))) return;
        void navigate({
          to: "/servers/$server",
          params: { server: name },
          search: key === "world" ? {} : { tab: String(key) },
          replace: true,
        });
      }}
    >
      <TabList aria-label={`About ${name}`}>
        <Tab id="world">World</Tab>
        <Tab id="fit">Fit</Tab>
        <Tab id="log">Log</Tab>
        <Tab id="changeovers">Changeovers</Tab>
        <Tab id="backups">Backups</Tab>
        <Tab id="aside">Set aside</Tab>
        {rented && <Tab id="slots">Provider’s backups</Tab>}
      </TabList>
      <TabPanel id="world">
        {trouble ? (
          <Panel>
            <Muted>Its files cannot be read now, so nothing is known of its worlds and settings.</Muted>
          </Panel>
        ) : (
          <WorldTab facts={facts} />
        )}
        <div style={{ marginTop: "1.2rem" }}>
          <Happened server={name} />
        </div>
      </TabPanel>
      <TabPanel id="fit">
        <FitTab facts={facts} />
      </TabPanel>
      <TabPanel id="log">
        <Log
          key={name}
          server={name}
        />
      </TabPanel>
      <TabPanel id="changeovers">
        <ServerChangeovers server={name} />
      </TabPanel>
      <TabPanel id="backups">
        <ServerBackups
          server={name}
          held={Boolean(facts.server.changeover)}
        />
      </TabPanel>
      <TabPanel id="aside">
        <AsideTab server={name} />
      </TabPanel>
      {rented && (
        <TabPanel id="slots">
          <ProviderSlots server={name} />
        </TabPanel>
      )}
    </Tabs>
  );
}

export function ServerPage() {
  const { server: name } = useParams({ from: "/servers/$server" });
  const client = useQueryClient();
  const server = useQuery(queries.server(name));
  const operate = useMutation({
    mutationFn: (what: "start" | "startAnew" | "stop" | "stopUnsaved") => api[what](name),
    onSettled: () => client.invalidateQueries({ queryKey: ["servers"] }),
  });
  // A start or stop that a person carries out waits for their word.
  const say = useMutation({
    mutationFn: (what: "sayStopped" | "sayStoppedDespiteSigns" | "sayStarted") => api[what](name),
    onSettled: () => client.invalidateQueries({ queryKey: ["servers"] }),
  });
  const [saying, setSaying] = useState(false);
  const navigate = useNavigate();
  const remove = useMutation({
    mutationFn: () => api.removeServer(name),
    onSuccess: async () => {
      await navigate({ to: "/servers" });
      client.removeQueries({ queryKey: ["servers", name] });
      await client.invalidateQueries({ queryKey: ["servers"] });
    },
  });
  const s = server.data?.server;
  const down = s?.state === "stopped" || s?.state === "exited" || s?.state === "unreachable";
  return (
    <Page>
      <div>
        <Crumb>
          <Link to="/servers">Servers</Link>
        </Crumb>
        <Head>
          <h1>{name}</h1>
          {s && (
            <Mark of={s.state}>
              {s.state}
              {s.state === "exited" && (s.exitCode ?? -1) >= 0 ? ` with code ${s.exitCode}` : ""}
            </Mark>
          )}
          {s && down && (
            <Button
              look="grave"
              isDisabled={remove.isPending || Boolean(s.changeover)}
              onPress={() => remove.mutate()}
            >
              Forget this server
            </Button>
          )}
          {s && s.state === "unknown" && (
            <Button
              onPress={() => setSaying(!saying)}
              isDisabled={operate.isPending}
            >
              I know that it is stopped …
            </Button>
          )}
          {s && s.state !== "unreachable" && s.state !== "unknown" && (
            <Button
              look={down ? "main" : "plain"}
              onPress={() => operate.mutate(down ? "start" : "stop")}
              isDisabled={operate.isPending || Boolean(s.changeover)}
            >
              {operate.isPending ? "Waiting for the server …" : down ? "Start" : "Stop"}
            </Button>
          )}
          {s && s.state === "running" && !s.changeover && (
            <Button
              look="main"
              onPress={() => void navigate({ to: "/bring", search: { server: name } })}
            >
              Bring a world here
            </Button>
          )}
        </Head>
      </div>
      {operate.isError && <Failure error={operate.error} />}
      {operate.error instanceof Problem && operate.error.code === "needs-choice" && (
        <p>
          <Button
            look="grave"
            onPress={() => operate.mutate("startAnew")}
          >
            Start it with a new, empty world
          </Button>
        </p>
      )}
      {operate.error instanceof Problem &&
        operate.error.code === "not-stopped" &&
        operate.variables === "stop" && (
          <p>
            <Button
              look="grave"
              onPress={() => operate.mutate("stopUnsaved")}
            >
              Stop it without saving before
            </Button>
          </p>
        )}
      {say.isError && <Failure error={say.error} />}
      <DespiteSigns say={say} />
      {remove.isError && <Failure error={remove.error} />}
      {s?.changeover ? <Holder id={s.changeover} /> : null}
      {s && (
        <StateNote
          server={s}
          saying={saying}
          onSay={() => say.mutate("sayStopped")}
          busy={say.isPending}
        />
      )}
      {s?.state === "unknown" && s.control?.by === "hand" && (
        <p>
          <Button
            isDisabled={say.isPending}
            onPress={() => say.mutate("sayStarted")}
          >
            It runs: I have started it
          </Button>
        </p>
      )}
      {s?.otherWorld && (
        <Panel>
          <Mark
            of="blocks"
            quiet
          >
            Another world
          </Mark>{" "}
          {s.otherWorld} If this is not intended, switch to another world below.
          <p style={{ marginTop: "0.6rem" }}>
            <Intended server={name} />
          </p>
        </Panel>
      )}
      {s?.amiss && (
        <Panel>
          <Mark
            of="choose"
            quiet
          >
            Before its next start
          </Mark>{" "}
          {s.amiss} {s.amissNext}{" "}
          <Link
            to="/servers/$server"
            params={{ server: name }}
            search={{ tab: "fit" }}
          >
            Its sheet
          </Link>
        </Panel>
      )}
      {s?.trouble && <Failure error={new Error(s.trouble)} />}
      <Answer
        of={server}
        waiting="Looking at the server"
      >
        {(facts) => <ServerTabs facts={facts} />}
      </Answer>
    </Page>
  );
}

function ServerChangeovers({ server }: { server: string }) {
  const list = useQuery(queries.changeovers(server));
  return (
    <Answer
      of={list}
      waiting="Reading what was changed here"
    >
      {(all) => (
        <Panel>
          <ChangeoverTable list={all} />
        </Panel>
      )}
    </Answer>
  );
}
