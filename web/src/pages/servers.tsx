import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useMemo, useState } from "react";
import {
  Checkbox,
  Collection,
  GridList,
  GridListHeader,
  GridListItem,
  GridListSection,
  ListLayout,
  Virtualizer,
  type Key,
} from "react-aria-components";
import styled from "styled-components";
import { api, Problem, type Server } from "../api/client";
import { queries } from "../api/queries";
import { Choice } from "../parts/choice";
import { Button } from "../parts/controls";
import { Field, Filters } from "../parts/form";
import { serverPicture, Failure, Head, Loading, Muted, Page, Panel, Picture } from "../parts/layout";
import { Mark } from "../parts/marks";
import { Since } from "../parts/moment";
import { useNarrow } from "../parts/narrow";
import { groups, inView, sorts, type View } from "../parts/view";
import { count, quoted } from "../words";

/** The fleet: however many servers there are, only those that are seen are drawn. */
const Rows = styled(GridList)`
  display: block;
  outline: none;
  .react-aria-GridListItem {
    background: var(--sheet);
    border: 1px solid var(--line);
    border-radius: 7px;
    padding: 0.5rem 1rem 0.5rem 0.3rem;
    box-shadow: var(--shadow);
    outline: none;
    cursor: pointer;
    height: 100%;
    /* Each row is as high as the other: of thousands none has to be measured. */
    overflow: hidden;
  }
  .of {
    height: 100%;
  }
  .of > div {
    min-width: 0;
  }
  .of > div,
  .of small {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .react-aria-GridListItem[data-hovered] {
    border-color: var(--line-strong);
  }
  .react-aria-GridListItem[data-selected] {
    border-color: var(--accent);
    background: var(--accent-soft);
  }
  @media (forced-colors: active) {
    .react-aria-GridListItem[data-selected] {
      border: 3px solid Highlight;
    }
  }
  .react-aria-GridListItem[data-focus-visible] {
    outline: 2px solid var(--focus);
    outline-offset: 1px;
  }
  .of {
    display: grid;
    grid-template-columns: auto 64px minmax(0, 1.5fr) minmax(0, 1fr) 11rem;
    gap: 1rem;
    align-items: center;
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
  .of > :last-child {
    justify-self: end;
    text-align: right;
  }
  .react-aria-GridListHeader {
    padding-top: 0.9rem;
  }
  .together {
    display: flex;
    gap: 1rem;
    align-items: center;
    h2 {
      margin-right: auto;
    }
    small {
      display: inline;
    }
  }
  @media (max-width: 46rem) {
    .of {
      grid-template-columns: auto 56px minmax(0, 1fr);
      gap: 0.3rem 0.7rem;
      align-items: start;
      align-content: start;
    }
    .of > :first-child,
    .of > :nth-child(2) {
      grid-row: 1 / 4;
    }
    .of > img,
    .of > svg {
      width: 56px;
      height: 56px;
    }
    .of > div {
      grid-column: 3;
    }
    .of > :last-child {
      justify-self: start;
      text-align: left;
      display: flex;
      gap: 0.5rem;
      align-items: center;
    }
  }
` as typeof GridList;

const Pick = styled(Checkbox)`
  padding: 0.6rem 0.4rem 0.6rem 0.7rem;
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
function Row({ id, server: s }: { id: string; server: Server }) {
  const said = s.trouble || s.otherWorld || s.note || s.amiss;
  return (
    <GridListItem
      id={id}
      textValue={s.name}
    >
      <div className="of">
        <Pick
          slot="selection"
          aria-label={`Choose ${s.name}`}
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
          {said && <small title={said}>{said}</small>}
        </div>
        <div>
          <ActiveWorld server={s} />
        </div>
        <div>
          <Mark of={s.state} />
          <Doing server={s} />
        </div>
      </div>
    </GridListItem>
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

const names = (shown: [string, Server[]][]) => shown.flatMap(([, list]) => list.map((s) => s.name));
// By its id a collection knows a row again when others come and go.
const row = (s: Server) => (
  <Row
    id={s.name}
    server={s}
  />
);

/** From how many servers on there are fields to look among them. */
const many = 6;

export function Servers() {
  const navigate = useNavigate();
  const view = useSearch({ from: "/servers" });
  const narrow = useNarrow();
  const servers = useQuery(queries.servers());
  const [picked, setPicked] = useState<ReadonlySet<Key>>(new Set());
  const change = (to: View) => void navigate({ to: "/servers", search: to, replace: true });
  const shown = useMemo(() => inView(servers.data ?? [], view), [servers.data, view]);
  const chosen = (servers.data ?? []).map((s) => s.name).filter((n) => picked.has(n));
  const pick = (list: Server[], on: boolean) => {
    const next = new Set(picked);
    for (const s of list) {
      if (on) next.add(s.name);
      else next.delete(s.name);
    }
    setPicked(next);
  };
  const allOf = (list: Server[]) =>
    list.every((s) => picked.has(s.name)) ? "None of these" : "All of these";
  return (
    <Page>
      <Head>
        <h1>Servers</h1>
        <Button onPress={() => void navigate({ to: "/add-server" })}>Add a server</Button>
      </Head>
      {servers.isError && (
        <Failure
          error={servers.error}
          again={() => void servers.refetch()}
        />
      )}
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
          <Filters onSubmit={(e) => e.preventDefault()}>
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
          </Filters>
          <SavedViews view={view} />
        </>
      )}
      {view.q && shown.length === 0 && servers.data && <Muted>No server has all of that.</Muted>}
      {shown.length > 0 && (
        <Virtualizer
          layout={ListLayout}
          layoutOptions={{ rowSize: narrow ? 148 : 92, headingSize: 60, gap: 11 }}
        >
          <Rows
            aria-label="Servers"
            selectionMode="multiple"
            selectionBehavior="toggle"
            selectedKeys={picked}
            onSelectionChange={(keys) => setPicked(keys === "all" ? new Set(names(shown)) : keys)}
            onAction={(name) =>
              void navigate({ to: "/servers/$server", params: { server: String(name) }, search: {} })
            }
          >
            {view.by ? (
              shown.map(([group, list]) => (
                <GridListSection
                  key={group}
                  id={`group ${group}`}
                >
                  <GridListHeader>
                    <div className="together">
                      <h2>
                        {group} <small>({list.length})</small>
                      </h2>
                      <Button
                        onPress={() => pick(list, !list.every((s) => picked.has(s.name)))}
                        aria-label={`${allOf(list)}: ${group}`}
                      >
                        {allOf(list)}
                      </Button>
                    </div>
                  </GridListHeader>
                  <Collection items={list}>{row}</Collection>
                </GridListSection>
              ))
            ) : (
              <Collection items={shown[0]?.[1] ?? []}>{row}</Collection>
            )}
          </Rows>
        </Virtualizer>
      )}
      {chosen.length > 0 && (
        <Many
          names={chosen}
          clear={() => setPicked(new Set())}
        />
      )}
    </Page>
  );
}
