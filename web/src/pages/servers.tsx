import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { Checkbox } from "react-aria-components";
import styled from "styled-components";
import { api, Problem, type Server } from "../api/client";
import { queries } from "../api/queries";
import { Choice } from "../parts/choice";
import { Button } from "../parts/controls";
import { Columns, Field } from "../parts/form";
import { serverPicture, Failure, Head, Loading, Muted, Page, Panel, Picture } from "../parts/layout";
import { Mark } from "../parts/marks";
import { Since } from "../parts/moment";
import { groups, inView, sorts, type View } from "../parts/view";
import { count, quoted } from "../words";

const Rows = styled.ul`
  display: grid;
  gap: 0.7rem;
  li {
    display: grid;
    grid-template-columns: auto 64px minmax(0, 1.5fr) minmax(0, 1fr) 11rem;
    gap: 1rem;
    align-items: center;
    background: var(--sheet);
    border: 1px solid var(--line);
    border-radius: 7px;
    padding: 0.7rem 1rem 0.7rem 0.7rem;
    box-shadow: var(--shadow);
    /* What is not seen is not drawn: thousands of servers scroll as a few do. */
    content-visibility: auto;
    contain-intrinsic-size: auto 88px;
  }
  a {
    font-weight: 650;
    font-size: 1.08rem;
  }
  small {
    color: var(--muted);
    display: block;
    font-size: 0.9rem;
  }
  li > :last-child {
    justify-self: end;
    text-align: right;
  }
  code {
    overflow-wrap: anywhere;
  }
  @media (max-width: 46rem) {
    li {
      grid-template-columns: auto 56px minmax(0, 1fr);
      gap: 0.3rem 0.7rem;
      align-items: start;
      contain-intrinsic-size: auto 150px;
    }
    li > :first-child,
    li > :nth-child(2) {
      grid-row: 1 / 4;
    }
    li > img,
    li > svg {
      width: 56px;
      height: 56px;
    }
    li > div {
      grid-column: 3;
    }
    li > :last-child {
      justify-self: start;
      text-align: left;
    }
  }
`;

const Pick = styled(Checkbox)`
  padding: 0.6rem 0.4rem;
  cursor: pointer;
  &::before {
    content: "☐";
    font-size: 1.25rem;
    line-height: 1;
    color: var(--muted);
  }
  &[data-selected]::before {
    content: "☑";
    color: var(--accent);
  }
  &[data-focus-visible] {
    outline: 2px solid var(--focus);
    border-radius: 4px;
  }
`;

const Together = styled.div`
  position: sticky;
  bottom: 0;
  z-index: 1;
  background: var(--raised);
  border: 1px solid var(--line-strong);
  border-radius: 7px;
  padding: 0.6rem 1rem;
  display: flex;
  flex-wrap: wrap;
  gap: 0.6rem;
  align-items: center;
  p {
    margin-right: auto;
  }
`;

const Views = styled.p`
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem 0.8rem;
  align-items: center;
`;

/** The active world in words: title and folder name are never mixed up. */
export function ActiveWorld({ server }: { server: Server }) {
  if (!server.active) return <>no world named in the settings</>;
  if (!server.activeTitle)
    return (
      <>
        folder <code>{quoted(server.active)}</code>
      </>
    );
  return (
    <>
      {quoted(server.activeTitle)}{" "}
      <small>
        folder <code>{server.active}</code>
      </small>
    </>
  );
}

/** One server of the list. */
function Row({
  server: s,
  picked,
  onPick,
}: {
  server: Server;
  picked: boolean;
  onPick: (on: boolean) => void;
}) {
  return (
    <li>
      <Pick
        aria-label={`Choose ${s.name}`}
        isSelected={picked}
        onChange={onPick}
      />
      <Picture
        size={64}
        src={s.drawn && s.activeTitle ? serverPicture(s.name, s.active, s.since) : undefined}
        of={s.activeTitle || s.active || s.name}
      />
      <div>
        <Link
          to="/servers/$server"
          params={{ server: s.name }}
        >
          {s.name}
        </Link>
        <small>
          {s.game}, {s.kind}
          {s.host !== "local" && ` on ${s.host}`}
          {s.join && (
            <>
              {" "}
              · players join at <code>{s.join}</code>
            </>
          )}
        </small>
        {s.note && <small>{s.note}</small>}
        {s.trouble && <small>{s.trouble}</small>}
      </div>
      <div>
        <ActiveWorld server={s} />
      </div>
      <div>
        <Mark of={s.state} />
        <Doing server={s} />
      </div>
    </li>
  );
}

/** What holds a server, or since when it is as it is. */
function Doing({ server: s }: { server: Server }) {
  if (s.changeover) {
    return (
      <small>
        <Link
          to="/changeovers/$id"
          params={{ id: String(s.changeover) }}
        >
          changeover {s.changeover}
        </Link>
      </small>
    );
  }
  if (s.since)
    return (
      <small>
        since <Since at={s.since} />
      </small>
    );
  return s.state === "exited" && <small>on its own; its log says why</small>;
}

const kept = "reshard.views";
type Saved = Record<string, View>;
const savedViews = (): Saved => {
  try {
    return JSON.parse(localStorage.getItem(kept) ?? "{}") as Saved;
  } catch {
    return {};
  }
};

/** Views that were given a name in this browser. */
function SavedViews({ view }: { view: View }) {
  const [saved, setSaved] = useState(savedViews);
  const [name, setName] = useState<string>();
  const save = (next: Saved) => {
    localStorage.setItem(kept, JSON.stringify(next));
    setSaved(next);
  };
  const names = Object.keys(saved);
  const plain = !view.q && !view.by && !view.sort;
  if (plain && names.length === 0) return null;
  return (
    <Views>
      {names.map((n) => (
        <Link
          key={n}
          to="/servers"
          search={saved[n] ?? {}}
        >
          {n}
        </Link>
      ))}
      {!plain && <Link to="/servers">all servers</Link>}
      {!plain && name === undefined && <Button onPress={() => setName("")}>Keep this view …</Button>}
      {name !== undefined && (
        <>
          <Field
            label="Call it"
            value={name}
            onChange={setName}
          />
          <Button
            isDisabled={name.trim() === ""}
            onPress={() => {
              save({ ...saved, [name.trim()]: view });
              setName(undefined);
            }}
          >
            Keep it
          </Button>
        </>
      )}
      {names
        .filter((n) => JSON.stringify(saved[n]) === JSON.stringify(view))
        .map((n) => (
          <Button
            key={n}
            onPress={() => save(Object.fromEntries(Object.entries(saved).filter(([k]) => k !== n)))}
          >
            Forget “{n}”
          </Button>
        ))}
    </Views>
  );
}

type Deed = "start" | "stop" | "back up" | "check";

const deeds: Record<Deed, (server: string) => Promise<unknown>> = {
  start: (s) => api.start(s),
  stop: (s) => api.stop(s),
  "back up": (s) => api.makeBackup({ server: s }),
  check: async (s) => {
    const { sheet } = await api.check(s);
    if (sheet.verdict !== "fits" && sheet.verdict !== "adjust")
      throw new Error(sheet.rows.find((r) => r.verdict === sheet.verdict)?.say ?? sheet.verdict);
  },
};

/** What is done to several at once, a few at a time; each that fails says why. */
function Many({ names, clear }: { names: string[]; clear: () => void }) {
  const client = useQueryClient();
  const [done, setDone] = useState(0);
  const all = useMutation({
    mutationFn: async (deed: Deed) => {
      setDone(0);
      const failed: { name: string; why: string }[] = [];
      const left = [...names];
      const work = async () => {
        for (let name = left.shift(); name !== undefined; name = left.shift()) {
          try {
            await deeds[deed](name);
          } catch (e) {
            const next = e instanceof Problem ? ` ${e.next}` : "";
            failed.push({ name, why: (e instanceof Error ? e.message : String(e)) + next });
          }
          setDone((n) => n + 1);
        }
      };
      await Promise.all([work(), work(), work(), work()]);
      return { deed, failed };
    },
    onSettled: () => client.invalidateQueries({ queryKey: ["servers"] }),
  });
  return (
    <Together aria-live="polite">
      <p>
        {count(names.length, "server", "servers")} chosen
        {all.isPending && `: ${done} of ${names.length} done`}
        {all.data && all.data.failed.length === 0 && `: all ${all.data.deed === "check" ? "fit" : "done"}`}
      </p>
      {(Object.keys(deeds) as Deed[]).map((d) => (
        <Button
          key={d}
          isDisabled={all.isPending}
          onPress={() => all.mutate(d)}
        >
          {d.charAt(0).toUpperCase() + d.slice(1)}
        </Button>
      ))}
      <Button onPress={clear}>Choose none</Button>
      {all.data && all.data.failed.length > 0 && (
        <ul style={{ flex: "1 0 100%" }}>
          {all.data.failed.map((f) => (
            <li key={f.name}>
              <Mark
                of="blocks"
                quiet
              >
                {f.name}
              </Mark>{" "}
              {f.why}
            </li>
          ))}
        </ul>
      )}
    </Together>
  );
}

/** From how many servers on there are fields to look among them. */
const many = 6;

export function Servers() {
  const navigate = useNavigate();
  const view = useSearch({ from: "/servers" });
  const servers = useQuery(queries.servers());
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const change = (to: View) => void navigate({ to: "/servers", search: to, replace: true });
  const shown = inView(servers.data ?? [], view);
  const chosen = (servers.data ?? []).map((s) => s.name).filter((n) => picked.has(n));
  const pick = (names: string[], on: boolean) => {
    const next = new Set(picked);
    for (const n of names) {
      if (on) next.add(n);
      else next.delete(n);
    }
    setPicked(next);
  };
  return (
    <Page>
      <Head>
        <h1>Servers</h1>
        <Button onPress={() => void navigate({ to: "/add-server" })}>Add a server</Button>
      </Head>
      {servers.isError && <Failure error={servers.error} />}
      {servers.isPending && <Loading say="Looking at the servers" />}
      {servers.data?.length === 0 && (
        <Panel>
          <Muted>
            No servers yet. <Link to="/add-server">Add one</Link> that runs on the service’s machine, or on{" "}
            <Link to="/hosts">another host</Link>.
          </Muted>
        </Panel>
      )}
      {servers.data && servers.data.length >= many && (
        <>
          <Columns onSubmit={(e) => e.preventDefault()}>
            <Field
              label="Search"
              value={view.q ?? ""}
              onChange={(q) => change({ ...view, q: q || undefined })}
              hint="names, games, worlds, states"
            />
            <Choice
              label="Together by"
              all="nothing"
              options={[...groups]}
              value={view.by ?? ""}
              onChange={(by) => change({ ...view, by: groups.find((g) => g === by) })}
            />
            <Choice
              label="In order of"
              all="name"
              options={[...sorts]}
              value={view.sort ?? ""}
              onChange={(sort) => change({ ...view, sort: sorts.find((k) => k === sort) })}
            />
          </Columns>
          <SavedViews view={view} />
        </>
      )}
      {view.q && shown.length === 0 && servers.data && <Muted>No server has all of that.</Muted>}
      {shown.map(([group, list]) => (
        <section
          key={group}
          aria-label={group || "Servers"}
        >
          {group && (
            <Head>
              <h2>
                {group} <small>({list.length})</small>
              </h2>
              <Button
                onPress={() =>
                  pick(
                    list.map((s) => s.name),
                    !list.every((s) => picked.has(s.name)),
                  )
                }
              >
                {list.every((s) => picked.has(s.name)) ? "None of these" : "All of these"}
              </Button>
            </Head>
          )}
          <Rows>
            {list.map((s) => (
              <Row
                key={s.name}
                server={s}
                picked={picked.has(s.name)}
                onPick={(on) => pick([s.name], on)}
              />
            ))}
          </Rows>
        </section>
      ))}
      {chosen.length > 0 && (
        <Many
          names={chosen}
          clear={() => setPicked(new Set())}
        />
      )}
    </Page>
  );
}
