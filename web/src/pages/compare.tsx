import { useQuery } from "@tanstack/react-query";
import { Link, useSearch } from "@tanstack/react-router";
import styled from "styled-components";
import type { Compared, Copy } from "../api/client";
import { queries } from "../api/queries";
import { Crumb, Failure, Head, Loading, Muted, Page, Panel, Table } from "../parts/layout";
import { MapOf } from "../parts/map";
import { ThenAndNow } from "../parts/then-and-now";
import { bytes, quoted, shownName, when } from "../words";

const Sides = styled.div`
  display: grid;
  gap: 1.2rem;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  align-items: start;
  @media (max-width: 860px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const Words = styled.ul`
  display: grid;
  gap: 0.3rem;
  font-size: 1.05rem;
`;
const Key = styled.p`
  display: flex;
  gap: 1.1rem;
  flex-wrap: wrap;
  margin-top: 0.6rem;
  color: var(--muted);
  span::before {
    content: "";
    display: inline-block;
    width: 0.9rem;
    height: 0.9rem;
    margin-right: 0.35rem;
    vertical-align: -2px;
    border: 3px solid;
    border-radius: 2px;
  }
  .new::before {
    border-color: #3abe5c;
  }
  .changed::before {
    border-color: #f0b428;
  }
  .lost::before {
    border-color: #e23e32;
    background: linear-gradient(45deg, transparent 44%, #e23e32 44% 56%, transparent 56%);
  }
`;
const Scrolling = styled.section`
  max-height: 24rem;
  overflow: auto;
`;

function Side({ name, copy }: { name: string; copy: Copy }) {
  return (
    <p>
      <b>{name}</b>:{" "}
      <Link
        to="/library/$world"
        params={{ world: copy.world }}
      >
        {quoted(copy.facts.title)}
      </Link>
      , copy <code>{copy.id.slice(0, 12)}</code>, {copy.kind} from {copy.source}, {when(copy.createdAt)}
    </p>
  );
}

const size = (n: number) => (n < 0 ? "–" : bytes(n));

type Counts = NonNullable<Compared["map"]>;

function OnTheMap({
  counts,
  before,
  after,
  title,
}: {
  counts: Counts;
  before: string;
  after: string;
  title: string;
}) {
  return (
    <Panel>
      <h2>On the map</h2>
      <DifferenceMap
        src={`/api/v1/compare/picture?${new URLSearchParams({ before, after }).toString()}`}
        title={title}
      />
      <Key>
        <span className="new">{counts.added} new</span>
        <span className="changed">{counts.changed} changed</span>
        <span className="lost">{counts.lost} lost</span>as they were: {counts.same}, pale
      </Key>
    </Panel>
  );
}

function FileCounts({ files }: { files: Compared["files"] }) {
  return (
    <Panel>
      <h2>Files</h2>
      <Table>
        <thead>
          <tr>
            <th>What</th>
            <th>Files</th>
            <th>Size</th>
          </tr>
        </thead>
        <tbody>
          {(
            [
              ["new", files.added],
              ["changed", files.changed],
              ["lost", files.lost],
              ["the same", files.same],
            ] as const
          ).map(([what, n]) => (
            <tr key={what}>
              <td>{what}</td>
              <td>{n.files}</td>
              <td>{bytes(n.bytes)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </Panel>
  );
}

function OwnWords({ said }: { said: Compared["facts"] }) {
  return (
    <Panel>
      <h2>What it says of itself</h2>
      <Table>
        <thead>
          <tr>
            <th>What</th>
            <th>Before</th>
            <th>After</th>
          </tr>
        </thead>
        <tbody>
          {said.map((f) => (
            <tr key={f.name}>
              <td>{f.name}</td>
              <td>{f.before || "–"}</td>
              <td>{f.after || "–"}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </Panel>
  );
}

function DifferingFiles({ changes }: { changes: Compared["changes"] }) {
  return (
    <Panel>
      <h2>Files that differ</h2>
      <Scrolling
        tabIndex={0}
        aria-label="Files that differ"
      >
        <Table>
          <thead>
            <tr>
              <th>File</th>
              <th>What</th>
              <th>Before</th>
              <th>After</th>
            </tr>
          </thead>
          <tbody>
            {changes.map((f) => (
              <tr key={f.path}>
                <td>{shownName(f.path)}</td>
                <td>{f.what}</td>
                <td>{size(f.before)}</td>
                <td>{size(f.after)}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      </Scrolling>
    </Panel>
  );
}

export function Compare() {
  const { before, after } = useSearch({ from: "/compare" });
  const got = useQuery(queries.compare(before, after));
  const c = got.data;
  const d = c?.map;
  return (
    <Page>
      <div>
        <Crumb>
          {c ? (
            <Link
              to="/library/$world"
              params={{ world: c.after.world }}
            >
              {quoted(c.after.facts.title)}
            </Link>
          ) : (
            <Link to="/library">Library</Link>
          )}
        </Crumb>
        <Head>
          <h1>What has changed</h1>
        </Head>
      </div>
      {got.isError && <Failure error={got.error} />}
      {got.isPending && <Loading say="Comparing the two" />}
      {c && (
        <>
          <Panel>
            <Side
              name="Before"
              copy={c.before}
            />
            <Side
              name="After"
              copy={c.after}
            />
          </Panel>
          <Panel>
            <h2>In words</h2>
            <Words>
              {c.words.map((w) => (
                <li key={w}>{w}</li>
              ))}
            </Words>
          </Panel>
          <Sides>
            {c.before.drawn && c.after.drawn && (
              <Panel>
                <h2>Then and now</h2>
                <ThenAndNow
                  before={c.before}
                  after={c.after}
                />
              </Panel>
            )}
            {d && d.added + d.changed + d.lost > 0 && (
              <OnTheMap
                counts={d}
                before={before}
                after={after}
                title={c.after.facts.title}
              />
            )}
            <FileCounts files={c.files} />
            {c.facts.length + c.settings.length > 0 && <OwnWords said={[...c.facts, ...c.settings]} />}
            {c.changes.length > 0 && <DifferingFiles changes={c.changes} />}
          </Sides>
        </>
      )}
    </Page>
  );
}

/** The picture tells its own size; places of the world are not marked on it. */
function DifferenceMap({ src, title }: { src: string; title: string }) {
  const loaded = useQuery({
    queryKey: ["picture size", src],
    staleTime: Infinity,
    retry: false,
    queryFn: () =>
      new Promise<{ width: number; height: number }>((resolve, reject) => {
        const img = new Image();
        img.addEventListener("load", () => resolve({ width: img.naturalWidth, height: img.naturalHeight }));
        img.addEventListener("error", () => reject(new Error("there is no picture")));
        img.src = src;
      }),
  });
  if (!loaded.data) return <Muted>Drawing it …</Muted>;
  return (
    <MapOf
      map={{ ...loaded.data, left: 0, top: 0, scale: 0, down: 0, tiles: 0, landmarks: [], players: [] }}
      src={src}
      title={title}
    />
  );
}
