import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useState } from "react";
import styled from "styled-components";
import { api, type Copy, type Fact } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
import { Columns, Field } from "../parts/form";
import { copyPicture, Crumb, Facts, Failure, Head, Muted, Page, Panel, Picture, Table } from "../parts/layout";
import { Mark } from "../parts/marks";
import { bytes, count, quoted, when } from "../words";

const Sides = styled.div`
  display: grid; gap: 1.2rem; grid-template-columns: minmax(0, 1.25fr) minmax(0, 1fr); align-items: start;
  @media (max-width: 860px) { grid-template-columns: minmax(0, 1fr); }
`;
const Beside = styled.div`display: flex; gap: 1.1rem;`;

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
      <Beside>
        <Picture size={132} src={copy.drawn ? copyPicture(copy.id) : undefined} of={f.title} />
        <Facts>
          <dt>Title</dt><dd><b>{quoted(f.title)}</b></dd>
          <dt>Folder</dt><dd><code>{quoted(f.folder)}</code></dd>
          {shown.map((n) => f.facts[n] && <FactRow key={n} name={n} fact={f.facts[n]} />)}
          {f.facts.mods && <FactRow name="mods" fact={f.facts.mods} />}
          <dt>Realms</dt><dd>{f.realms.length > 0 ? `${f.layout}: ${f.realms.join(", ")}` : "none"}</dd>
          <dt>Players</dt><dd>{f.players.length > 0 ? f.players.map((p) => p.name || p.id).join(", ") : "no records"}</dd>
          <dt>Size</dt><dd>{bytes(copy.bytes)} in {count(f.files, "file", "files")}</dd>
          <dt>Last played</dt><dd>{when(f.lastPlayed)}</dd>
          <dt>Came</dt><dd>{when(copy.createdAt)} from {copy.source}, by {copy.createdBy}</dd>
          <dt>Copy</dt><dd><code>{copy.id.slice(0, 16)}</code></dd>
        </Facts>
      </Beside>
      {f.warnings.length > 0 && <><h3 style={{ marginTop: "0.8rem" }}>Mind</h3>{f.warnings.map((w) => <p key={w}>! {w}</p>)}</>}
      <p style={{ marginTop: "0.9rem", display: "flex", gap: "0.8rem", alignItems: "center" }}>
        <Button onPress={() => verify.mutate()} isDisabled={verify.isPending}>{verify.isPending ? "Reading it back …" : "Verify every byte"}</Button>
        <a href={`/api/v1/worlds/${copy.id}/archive`} download>Download it</a>
        {verify.isSuccess && <Mark of="fits">as it was stored</Mark>}
      </p>
      {verify.isError && <Failure error={verify.error} />}
    </Panel>
  );
}

function FactRow({ name, fact }: { name: string; fact: Fact }) {
  return (<><dt>{name.charAt(0).toUpperCase() + name.slice(1).replace("-", " ")}</dt><dd>{factText(fact)}{!fact.why && fact.file && <small>{fact.file}</small>}</dd></>);
}

const Marks = styled.ul`
  display: grid; gap: 0.4rem; margin-bottom: 0.9rem;
  li { display: flex; gap: 0.7rem; align-items: center; }
  li > span { margin-right: auto; }
  small { color: var(--muted); }
`;

/** What to look for in the world, kept with it and shown after each changeover. */
function Landmarks({ world }: { world: string }) {
  const client = useQueryClient();
  const list = useQuery(queries.landmarks(world));
  const [say, setSay] = useState("");
  const [place, setPlace] = useState("");
  const settle = () => client.invalidateQueries({ queryKey: ["landmarks", world] });
  const add = useMutation({ mutationFn: () => api.addLandmark(world, say, place), onSuccess: () => { setSay(""); setPlace(""); return settle(); } });
  const remove = useMutation({ mutationFn: (id: number) => api.removeLandmark(world, id), onSuccess: settle });
  return (
    <Panel>
      <h2>Landmarks</h2>
      {list.isError && <Failure error={list.error} />}
      {list.data?.length === 0 && <Muted>Note what to look for in the game after a changeover: files can be compared, the look of a place cannot.</Muted>}
      <Marks aria-label="Landmarks">
        {list.data?.map((l) => <li key={l.id}><span>{l.say}{l.place && <small> at {l.place}</small>}</span><Button onPress={() => remove.mutate(l.id)} aria-label={`Forget: ${l.say}`}>Forget</Button></li>)}
      </Marks>
      <Columns onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
        <Field label="Look for" hint="red roof by the well" value={say} onChange={setSay} />
        <Field label="At" hint="120 / -30" value={place} onChange={setPlace} />
        <div className="wide"><Button type="submit" isDisabled={say.trim() === "" || add.isPending}>Add the landmark</Button></div>
      </Columns>
      {add.isError && <Failure error={add.error} />}
    </Panel>
  );
}

const Listed = styled.section`
  max-height: 22rem; overflow: auto;
  td { font-variant-numeric: tabular-nums; overflow-wrap: anywhere; }
`;

/** The files of a copy, each to be fetched; listed when somebody asks. */
function Files({ copy }: { copy: string }) {
  const [open, setOpen] = useState(false);
  const list = useQuery({ ...queries.files(copy), enabled: open });
  return (
    <Panel>
      <h2>Files</h2>
      {!open && <Button onPress={() => setOpen(true)}>List the files of the newest copy</Button>}
      {list.isError && <Failure error={list.error} />}
      {list.data && (
        <Listed tabIndex={0} aria-label="Files of the copy">
          <Table>
            <thead><tr><th>File</th><th>Size</th><th>Changed</th></tr></thead>
            <tbody>
              {list.data.map((f) => (
                <tr key={f.path}><td><a href={`/api/v1/worlds/${copy}/file?${new URLSearchParams({ path: f.path }).toString()}`} download>{f.path}</a></td><td>{bytes(f.size)}</td><td>{when(f.modified)}</td></tr>
              ))}
            </tbody>
          </Table>
        </Listed>
      )}
    </Panel>
  );
}

export function WorldPage() {
  const { world: name } = useParams({ from: "/library/$world" });
  const navigate = useNavigate();
  const world = useQuery(queries.world(name));
  const servers = useQuery(queries.servers());
  const copy = world.data?.copies[0];
  const mine = servers.data?.filter((s) => s.game === world.data?.game) ?? [];
  return (
    <Page>
      <div><Crumb><Link to="/library">Library</Link></Crumb><Head><h1>{world.data ? quoted(world.data.title) : name}</h1></Head></div>
      {world.isError && <Failure error={world.error} />}
      <Sides>
        {copy && <CopyPanel copy={copy} />}
        {copy && (
          <Panel>
            <h2>Put it onto a server</h2>
            {servers.data && mine.length === 0 && <Muted>No server runs {world.data?.game}.</Muted>}
            <Table>
              <tbody>
                {mine.map((s) => (
                  <tr key={s.name}>
                    <td><b>{s.name}</b><br /><Muted as="span">{s.kind}, now {quoted(s.activeTitle || s.active)}</Muted></td>
                    <td><Mark of={s.state} quiet /></td>
                    <td style={{ textAlign: "right" }}><Button onPress={() => void navigate({ to: "/change", search: { kind: "put", world: name, server: s.name } })} aria-label={`See whether it fits ${s.name}`}>See whether it fits</Button></td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </Panel>
        )}
        {world.data && <Landmarks world={name} />}
        {copy && <Files copy={copy.id} />}
        {world.data && world.data.copies.length > 1 && (
          <Panel>
            <h2>All its copies</h2>
            <Table>
              <thead><tr><th>Copy</th><th>Kind</th><th>From</th><th>Stored</th><th><span className="unseen">Restore</span></th></tr></thead>
              <tbody>
                {world.data.copies.map((k) => (
                  <tr key={k.id}>
                    <td><code>{k.id.slice(0, 12)}</code></td><td>{k.kind}</td><td>{k.source}</td><td>{when(k.createdAt)}</td>
                    <td>{mine.map((s) => <Link key={s.name} to="/change" search={{ kind: "restore", world: k.id, server: s.name }}>onto {s.name} </Link>)}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </Panel>
        )}
      </Sides>
    </Page>
  );
}
