import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useState } from "react";
import { WorldLine } from "../parts/world-line";
import styled from "styled-components";
import { api, type Copy, type Fact, type World } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
import { Columns, Field } from "../parts/form";
import { Crumb, Facts, Failure, Head, Loading, Muted, Page, Panel, Table } from "../parts/layout";
import { WorldMapView } from "../parts/map";
import { Mark } from "../parts/marks";
import { bytes, count, quoted, shownName, someOf, when } from "../words";

const Sides = styled.div`
  display: grid;
  gap: 1.2rem;
  grid-template-columns: minmax(0, 1.25fr) minmax(0, 1fr);
  align-items: start;
  @media (max-width: 860px) {
    grid-template-columns: minmax(0, 1fr);
  }
  & > div {
    display: grid;
    gap: 1.2rem;
    grid-template-columns: minmax(0, 1fr);
  }
`;

const shown = ["seed", "version", "family", "world-id"];

function factText(f: Fact): string {
  if (f.why) return `not read: ${f.why}`;
  return f.items ? f.items.map((i) => `${i.name} ${i.version ?? ""}`.trim()).join(", ") || "none" : f.text;
}

function CopyPanel({ copy }: { copy: Copy }) {
  const f = copy.facts;
  const verify = useMutation({ mutationFn: () => api.verify(copy.id.slice(0, 16)) });
  return (
    <Panel>
      <h2>What it says of itself</h2>
      <Facts>
        <dt>Title</dt>
        <dd>
          <b>{quoted(f.title)}</b>
        </dd>
        <dt>Folder</dt>
        <dd>
          <code>{quoted(f.folder)}</code>
        </dd>
        {shown.map(
          (n) =>
            f.facts[n] && (
              <FactRow
                key={n}
                name={n}
                fact={f.facts[n]}
              />
            ),
        )}
        {f.facts.mods && (
          <FactRow
            name="mods"
            fact={f.facts.mods}
          />
        )}
        <dt>Realms</dt>
        <dd>{f.realms.length > 0 ? `${f.layout}: ${f.realms.join(", ")}` : "none"}</dd>
        <dt>Players</dt>
        <dd>
          {someOf(
            f.players.map((p) => p.name || p.id),
            f.playerCount,
          ) || "no records"}
        </dd>
        <dt>Size</dt>
        <dd>
          {bytes(copy.bytes)} in {count(f.files, "file", "files")}
        </dd>
        <dt>Last played</dt>
        <dd>{when(f.lastPlayed)}</dd>
        <dt>Came</dt>
        <dd>
          {when(copy.createdAt)} from {copy.source}, by {copy.createdBy}
        </dd>
        <dt>Copy</dt>
        <dd>
          <code>{copy.id.slice(0, 16)}</code>
        </dd>
      </Facts>
      {f.warnings.length > 0 && (
        <>
          <h3 style={{ marginTop: "0.8rem" }}>Mind</h3>
          {f.warnings.map((w) => (
            <p key={w}>! {w}</p>
          ))}
        </>
      )}
      <p style={{ marginTop: "0.9rem", display: "flex", gap: "0.8rem", alignItems: "center" }}>
        <Button
          onPress={() => verify.mutate()}
          isDisabled={verify.isPending}
        >
          {verify.isPending ? "Reading it back …" : "Verify every byte"}
        </Button>
        <a
          href={`/api/v1/worlds/${copy.id}/archive`}
          download
        >
          Download it
        </a>
        <a
          href={`/api/v1/worlds/${copy.id}/archive?as=tar.zst`}
          download
        >
          as tar.zst
        </a>
        {verify.isSuccess && <Mark of="fits">as it was stored</Mark>}
      </p>
      {verify.isError && <Failure error={verify.error} />}
    </Panel>
  );
}

function FactRow({ name, fact }: { name: string; fact: Fact }) {
  return (
    <>
      <dt>{name.charAt(0).toUpperCase() + name.slice(1).replace("-", " ")}</dt>
      <dd>
        {factText(fact)}
        {!fact.why && fact.file && <small>{fact.file}</small>}
      </dd>
    </>
  );
}

const Marks = styled.ul`
  display: grid;
  gap: 0.4rem;
  margin-bottom: 0.9rem;
  li {
    display: flex;
    gap: 0.7rem;
    align-items: center;
  }
  li > span {
    margin-right: auto;
  }
  small {
    color: var(--muted);
  }
`;

/** What to look for in the world, kept with it and shown after each changeover. */
function Landmarks({
  world,
  copy,
  place,
  setPlace,
}: {
  world: string;
  copy?: string;
  place: string;
  setPlace: (place: string) => void;
}) {
  const client = useQueryClient();
  const list = useQuery(queries.landmarks(world));
  const [say, setSay] = useState("");
  const settle = () =>
    Promise.all([
      client.invalidateQueries({ queryKey: ["landmarks", world] }),
      client.invalidateQueries({ queryKey: ["map", copy] }),
    ]);
  const add = useMutation({
    mutationFn: () => api.addLandmark(world, say, place),
    onSuccess: () => {
      setSay("");
      setPlace("");
      return settle();
    },
  });
  const remove = useMutation({
    mutationFn: (id: number) => api.removeLandmark(world, id),
    onSuccess: settle,
  });
  return (
    <Panel id="landmarks">
      <h2>Landmarks</h2>
      {list.isError && <Failure error={list.error} />}
      {list.data?.length === 0 && (
        <Muted>
          Note what to look for in the game after a changeover: files can be compared, the look of a place
          cannot.
        </Muted>
      )}
      <Marks aria-label="Landmarks">
        {list.data?.map((l) => (
          <li key={l.id}>
            <span>
              {l.say}
              {l.place && <small> at {l.place}</small>}
            </span>
            <Button
              onPress={() => remove.mutate(l.id)}
              aria-label={`Forget: ${l.say}`}
            >
              Forget
            </Button>
          </li>
        ))}
      </Marks>
      <Columns
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <Field
          label="Look for"
          hint="red roof by the well"
          value={say}
          onChange={setSay}
        />
        <Field
          label="At"
          hint="120 / -30"
          value={place}
          onChange={setPlace}
        />
        <div className="wide">
          <Button
            type="submit"
            isDisabled={say.trim() === "" || add.isPending}
          >
            Add the landmark
          </Button>
        </div>
      </Columns>
      {add.isError && <Failure error={add.error} />}
    </Panel>
  );
}

const Listed = styled.section`
  max-height: 22rem;
  overflow: auto;
  td {
    font-variant-numeric: tabular-nums;
    overflow-wrap: anywhere;
  }
`;

/** The files of a copy, each to be fetched; listed when somebody asks. */
function Files({ copy }: { copy: string }) {
  const [open, setOpen] = useState(false);
  const [reading, setReading] = useState("");
  const list = useQuery({ ...queries.files(copy), enabled: open });
  return (
    <Panel>
      <h2>Files</h2>
      {!open && <Button onPress={() => setOpen(true)}>List the files of the newest copy</Button>}
      {list.isError && <Failure error={list.error} />}
      {list.data && (
        <Listed
          tabIndex={0}
          aria-label="Files of the copy"
        >
          <Table>
            <thead>
              <tr>
                <th>File</th>
                <th>Size</th>
                <th>Changed</th>
                <th>
                  <span className="unseen">Read</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {list.data.map((f) => (
                <tr key={f.path}>
                  <td>
                    <a
                      href={`/api/v1/worlds/${copy}/file?${new URLSearchParams({ path: f.path }).toString()}`}
                      download
                    >
                      {shownName(f.path)}
                    </a>
                  </td>
                  <td>{bytes(f.size)}</td>
                  <td>{when(f.modified)}</td>
                  <td>
                    {f.size <= largestRead && (
                      <Button
                        aria-label={`Read ${shownName(f.path)}`}
                        onPress={() => setReading(f.path)}
                      >
                        Read
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </Listed>
      )}
      {reading && (
        <Reading
          copy={copy}
          path={reading}
          onClose={() => setReading("")}
        />
      )}
    </Panel>
  );
}

const Text = styled.pre`
  max-height: 20rem;
  overflow: auto;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  background: var(--raised);
  border: 1px solid var(--line);
  border-radius: 5px;
  padding: 0.6rem 0.8rem;
`;

/** The text of a file, or that it is none. */
function Reading({ copy, path, onClose }: { copy: string; path: string; onClose: () => void }) {
  const got = useQuery({
    queryKey: ["text", copy, path],
    queryFn: ({ signal }) => api.text(copy, path, signal),
    staleTime: Infinity,
  });
  const text = got.data && textOf(got.data);
  return (
    <section
      aria-label={path}
      style={{ marginTop: "0.8rem" }}
    >
      <p style={{ display: "flex", gap: "0.8rem", alignItems: "center", marginBottom: "0.4rem" }}>
        <b>{path}</b> <Button onPress={onClose}>Close</Button>
      </p>
      {got.isError && <Failure error={got.error} />}
      {got.data &&
        (text === undefined ? (
          <Muted>It is no text; download it to look into it.</Muted>
        ) : (
          <Text tabIndex={0}>{text}</Text>
        ))}
    </section>
  );
}

/** What bytes say as UTF-8; undefined when they are no text. */
export function textOf(data: Uint8Array): string | undefined {
  if (data.includes(0)) return undefined;
  try {
    return new TextDecoder("utf-8", { fatal: true }).decode(data);
  } catch {
    return undefined;
  }
}

/** Up to how many bytes a file is shown. */
const largestRead = 512 * 1024;

const Note = styled.p`
  white-space: pre-wrap;
`;

/** Title, note and tags, to be changed in place. */
function About({ world }: { world: World }) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [title, setTitle] = useState(world.title);
  const [note, setNote] = useState(world.note ?? "");
  const [tags, setTags] = useState(world.tags.join(", "));
  const save = useMutation({
    mutationFn: () =>
      api.changeWorld(world.name, {
        title: title === world.title ? undefined : title,
        note,
        tags: tags
          .split(",")
          .map((t) => t.trim())
          .filter(Boolean),
      }),
    onSuccess: () => {
      setOpen(false);
      return client.invalidateQueries({ queryKey: ["worlds"] });
    },
  });
  return (
    <Panel>
      <h2>For people</h2>
      {!open && (
        <>
          {world.note ? <Note>{world.note}</Note> : <Muted>No note.</Muted>}
          <p>
            {world.tags.length > 0 && <>Tags: {world.tags.join(", ")}. </>}
            {world.servers.length > 0 && <>Has been on {world.servers.join(", ")}.</>}
          </p>
          <p style={{ marginTop: "0.6rem" }}>
            <Button onPress={() => setOpen(true)}>Change title, note or tags</Button>
          </p>
        </>
      )}
      {open && (
        <Columns
          onSubmit={(e) => {
            e.preventDefault();
            save.mutate();
          }}
        >
          <Field
            label="Title"
            hint="written into the world, as another copy; this one stays"
            value={title}
            onChange={setTitle}
          />
          <Field
            label="Tags"
            hint="with commas between them"
            value={tags}
            onChange={setTags}
          />
          <div className="wide">
            <Field
              label="Note"
              value={note}
              onChange={setNote}
            />
          </div>
          <div
            className="wide"
            style={{ display: "flex", gap: "0.6rem" }}
          >
            <Button
              type="submit"
              look="main"
              isDisabled={save.isPending}
            >
              Save
            </Button>
            <Button onPress={() => setOpen(false)}>Leave it</Button>
          </div>
        </Columns>
      )}
      {save.isError && <Failure error={save.error} />}
    </Panel>
  );
}

/** Worlds that may be the same one: offered, and never joined by itself. */
function Same({ world }: { world: World }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const settle = () => client.invalidateQueries({ queryKey: ["worlds"] });
  const join = useMutation({
    mutationFn: (into: string) => api.joinWorlds(world.name, into),
    onSuccess: async (w) => {
      await navigate({ to: "/library/$world", params: { world: w.name } });
      await settle();
    },
  });
  const apart = useMutation({
    mutationFn: (from: string) => api.sayApart(world.name, from),
    onSuccess: settle,
  });
  if (!world.same?.length) return null;
  return (
    <Panel>
      <h2>May be the same world</h2>
      {world.same.map((s) => (
        <p
          key={s.world}
          style={{ display: "flex", gap: "0.7rem", alignItems: "center", flexWrap: "wrap" }}
        >
          <span style={{ flex: "1 1 14rem" }}>
            <Link
              to="/library/$world"
              params={{ world: s.world }}
            >
              <b>{quoted(s.title)}</b>
            </Link>{" "}
            <code>{s.world}</code>: {s.why}.
          </span>
          <Button
            onPress={() => join.mutate(s.world)}
            aria-label={`Keep as one with ${s.world}`}
          >
            Keep as one
          </Button>
          <Button
            onPress={() => apart.mutate(s.world)}
            aria-label={`Not the same as ${s.world}`}
          >
            Not the same
          </Button>
        </p>
      ))}
      {(join.isError || apart.isError) && <Failure error={join.error ?? apart.error} />}
    </Panel>
  );
}

const Way = styled.ol`
  display: grid;
  gap: 0.5rem;
  border-left: 2px solid var(--line-strong);
  padding-left: 1rem;
  margin-left: 0.35rem;
  li {
    position: relative;
  }
  li::before {
    content: "";
    position: absolute;
    left: -1.42rem;
    top: 0.4rem;
    width: 0.7rem;
    height: 0.7rem;
    border-radius: 50%;
    background: var(--sheet);
    border: 2px solid var(--accent);
  }
  li[data-what="brought"]::before {
    background: var(--accent);
    border-radius: 2px;
  }
  small {
    color: var(--muted);
  }
`;

/** Where the copies came from and where they went. */
function LineageOf({ world }: { world: string }) {
  const got = useQuery(queries.lineage(world));
  return (
    <Panel>
      <h2>Where it came from and where it went</h2>
      {got.isError && <Failure error={got.error} />}
      <Way aria-label="Lineage">
        {got.data?.steps.map((s) => (
          <li
            key={`${s.what} ${s.copy} ${s.changeover ?? 0}`}
            data-what={s.what}
          >
            {s.say}
            {s.changeover ? (
              <>
                ,{" "}
                <Link
                  to="/changeovers/$id"
                  params={{ id: String(s.changeover) }}
                >
                  changeover {s.changeover}
                </Link>
              </>
            ) : null}
            <br />
            <small>
              {when(s.at)}, copy <code>{s.copy.slice(0, 12)}</code>
              {s.by && `, by ${s.by}`}
            </small>
          </li>
        ))}
      </Way>
    </Panel>
  );
}

const Acts = styled.div`
  display: flex;
  gap: 0.4rem;
  flex-wrap: wrap;
  align-items: center;
`;

/** All copies of a world: pinned, set aside, compared, restored. */
// CopyOf is a copy in its world, and what can be done with it.
type CopyOf = {
  k: World["copies"][number];
  world: World;
  servers: string[];
  change: (to: { id: string; pinned?: boolean; aside?: boolean }) => void;
  split: (id: string) => void;
};

function CopyActs({ k, world, servers, change, split }: CopyOf) {
  const newest = world.copies[0];
  return (
    <Acts>
      {!k.asideAt &&
        servers.map((s) => (
          <Link
            key={s}
            to="/change"
            search={{ kind: "restore", world: k.id, server: s }}
          >
            onto {s}
          </Link>
        ))}
      {newest && k.id !== newest.id && (
        <Link
          to="/compare"
          search={{ before: k.id, after: newest.id }}
        >
          What has changed since
        </Link>
      )}
      {!k.asideAt && (
        <Button
          aria-label={`${k.pinned ? "Unpin" : "Pin"} copy ${k.id.slice(0, 12)}`}
          onPress={() => change({ id: k.id, pinned: !k.pinned })}
        >
          {k.pinned ? "Unpin" : "Pin"}
        </Button>
      )}
      {!k.pinned && (
        <Button
          aria-label={`${k.asideAt ? "Bring back" : "Set aside"} copy ${k.id.slice(0, 12)}`}
          onPress={() => change({ id: k.id, aside: !k.asideAt })}
        >
          {k.asideAt ? "Bring back" : "Set aside"}
        </Button>
      )}
      {world.copies.length > 1 && !k.asideAt && (
        <Button
          aria-label={`Give copy ${k.id.slice(0, 12)} a world of its own`}
          onPress={() => split(k.id)}
        >
          Split off
        </Button>
      )}
    </Acts>
  );
}

function CopyRow(of: CopyOf) {
  const { k } = of;
  return (
    <tr>
      <td>
        <code>{k.id.slice(0, 12)}</code>
        {k.pinned && (
          <>
            <br />
            <Mark
              of="fits"
              quiet
            >
              pinned
            </Mark>
          </>
        )}
        {k.asideAt && (
          <>
            <br />
            <Mark
              of="undone"
              quiet
            >
              set aside
            </Mark>
          </>
        )}
      </td>
      <td>{k.kind}</td>
      <td>
        {k.source}
        {k.note && (
          <>
            <br />
            <Muted as="span">{k.note}</Muted>
          </>
        )}
      </td>
      <td>
        {when(k.createdAt)}
        {k.goes && (
          <>
            <br />
            <Muted as="span">goes {when(k.goes)}</Muted>
          </>
        )}
      </td>
      <td>{bytes(k.bytes)}</td>
      <td>
        <CopyActs {...of} />
      </td>
    </tr>
  );
}

function Copies({ world, servers }: { world: World; servers: string[] }) {
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: ({ id, ...body }: { id: string; pinned?: boolean; aside?: boolean }) =>
      api.changeCopy(id, body),
    onSettled: () => client.invalidateQueries({ queryKey: ["worlds"] }),
  });
  const split = useMutation({
    mutationFn: api.splitCopy,
    onSettled: () => client.invalidateQueries({ queryKey: ["worlds"] }),
  });
  return (
    <Panel>
      <h2>{world.copies.length > 1 ? "All its copies" : "Its copy"}</h2>
      <Table>
        <thead>
          <tr>
            <th>Copy</th>
            <th>Kind</th>
            <th>From</th>
            <th>Stored</th>
            <th>Size</th>
            <th>What can be done</th>
          </tr>
        </thead>
        <tbody>
          {world.copies.map((k) => (
            <CopyRow
              key={k.id}
              k={k}
              world={world}
              servers={servers}
              change={change.mutate}
              split={split.mutate}
            />
          ))}
        </tbody>
      </Table>
      {(change.isError || split.isError) && <Failure error={change.error ?? split.error} />}
    </Panel>
  );
}

export function WorldPage() {
  const { world: name } = useParams({ from: "/library/$world" });
  const navigate = useNavigate();
  const world = useQuery(queries.world(name));
  const servers = useQuery(queries.servers());
  const [place, setPlace] = useState("");
  const [x, z] = /^(-?\d+) \/ (-?\d+)$/.exec(place)?.slice(1).map(Number) ?? [];
  const copy = world.data?.copies[0];
  const mine = servers.data?.filter((s) => s.game === world.data?.game) ?? [];
  return (
    <Page>
      <div>
        <Crumb>
          <Link to="/library">Library</Link>
        </Crumb>
        <Head>
          <h1>{world.data ? quoted(world.data.title) : name}</h1>
          {copy && !copy.asideAt && (
            <Button
              look="main"
              onPress={() => void navigate({ to: "/bring", search: { world: name } })}
            >
              Bring it onto a server
            </Button>
          )}
        </Head>
      </div>
      {world.isPending && <Loading say="Reading what is known of the world" />}
      {world.isError && <Failure error={world.error} />}
      <Sides>
        <div>
          {copy?.drawn && (
            <Panel>
              <h2>From above</h2>
              <WorldMapView
                copy={copy.id}
                title={world.data?.title ?? name}
                picked={x !== undefined && z !== undefined ? { x, z } : undefined}
                onPick={(east, down) => {
                  setPlace(`${east} / ${down}`);
                  document.querySelector<HTMLInputElement>("#landmarks input")?.focus();
                }}
              />
            </Panel>
          )}
          {copy && <CopyPanel copy={copy} />}
          {copy && <Files copy={copy.id} />}
        </div>
        <div>
          {copy && (
            <Panel>
              <h2>Put it onto a server</h2>
              {servers.data && mine.length === 0 && <Muted>No server runs {world.data?.game}.</Muted>}
              <Table>
                <tbody>
                  {mine.map((s) => (
                    <tr key={s.name}>
                      <td>
                        <b>{s.name}</b>
                        <br />
                        <Muted as="span">
                          {s.kind}, now {quoted(s.activeTitle || s.active)}
                        </Muted>
                      </td>
                      <td>
                        <Mark
                          of={s.state}
                          quiet
                        />
                      </td>
                      <td style={{ textAlign: "right" }}>
                        <Button
                          onPress={() =>
                            void navigate({
                              to: "/change",
                              search: { kind: "put", world: name, server: s.name },
                            })
                          }
                          aria-label={`See whether it fits ${s.name}`}
                        >
                          See whether it fits
                        </Button>
                      </td>
                    </tr>
                  ))}
                </tbody>
              </Table>
            </Panel>
          )}
          {world.data && <Same world={world.data} />}
          {world.data && (
            <About
              key={world.data.name + (copy?.id ?? "")}
              world={world.data}
            />
          )}
          {world.data && (
            <Landmarks
              world={name}
              copy={copy?.id}
              place={place}
              setPlace={setPlace}
            />
          )}
          <LineageOf world={name} />
        </div>
      </Sides>
      {world.data && <WorldLine copies={world.data.copies} />}
      {world.data && (
        <Copies
          world={world.data}
          servers={mine.map((s) => s.name)}
        />
      )}
    </Page>
  );
}
