import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useEffect, useMemo, useRef, useState } from "react";
import {
  DropZone,
  FileTrigger,
  Radio,
  RadioGroup,
  type DirectoryDropItem,
  type DropItem,
} from "react-aria-components";
import styled from "styled-components";
import { archiveOf, pictureAddress, recognise, sendWorld } from "../api/arrivals";
import { api, Problem, type Arrival, type Recognised } from "../api/client";
import { queries } from "../api/queries";
import type { Entry } from "../api/tar";
import { bytes, count, quoted, when } from "../words";
import { Button } from "./controls";
import { Failure, Muted, Panel, Picture, Progress, Table } from "./layout";
import { Mark } from "./marks";

const Zone = styled(DropZone)`
  border: 2px dashed var(--line-strong);
  border-radius: 7px;
  padding: 1.1rem;
  display: flex;
  gap: 0.8rem;
  align-items: center;
  flex-wrap: wrap;
  background: var(--sheet);
  &[data-drop-target] {
    border-color: var(--accent);
    background: var(--accent-soft);
  }
  &[data-focus-visible] {
    outline: 2px solid var(--focus);
    outline-offset: 2px;
  }
  p {
    flex: 1 1 24rem;
  }
`;

const Which = styled(RadioGroup)`
  display: flex;
  gap: 0.5rem;
  flex-wrap: wrap;
  margin-top: 0.6rem;
  .world {
    border: 1px solid var(--line-strong);
    border-radius: 5px;
    padding: 0.3rem 0.7rem;
    cursor: pointer;
    background: var(--raised);
  }
  .world[data-focus-visible] {
    outline: 2px solid var(--focus);
  }
  .world[data-selected] {
    border-color: var(--accent);
    background: var(--accent-soft);
  }
`;

const Found = styled.ul`
  display: grid;
  gap: 0.7rem;
  li {
    display: flex;
    gap: 0.9rem;
    align-items: center;
    border-bottom: 1px solid var(--line);
    padding-bottom: 0.7rem;
  }
  li:last-child {
    border-bottom: 0;
    padding-bottom: 0;
  }
  .about {
    flex: 1;
    min-width: 0;
  }
`;

interface Sending {
  key: number;
  name: string;
  blob: Blob;
  root: string;
  resume: string;
}

/** How fast it goes and how long the rest takes at that. */
export function paceText(sent: number, size: number, ms: number): string {
  if (sent <= 0 || ms < 300) return "";
  const rate = (1000 * sent) / ms;
  const left = (size - sent) / rate;
  const time =
    left < 90
      ? `${Math.ceil(left)} s`
      : left < 5400
        ? `${Math.round(left / 60)} min`
        : `${(left / 3600).toFixed(1)} h`;
  return `, ${bytes(rate)}/s${sent < size ? `, ${time} left` : ""}`;
}

/** One archive on its way; asks when it holds several worlds, without sending it again. */
function UnderWay({ of, sent, pace, stop }: { of: Sending; sent: number; pace: string; stop: () => void }) {
  return (
    <Panel aria-live="polite">
      <Progress
        label={`Sending ${of.name}`}
        done={sent}
        all={of.blob.size}
        above={
          sent < of.blob.size ? (
            <>
              Sending <b>{of.name}</b>: {bytes(sent)} of {bytes(of.blob.size)}
              {pace}
            </>
          ) : (
            <>
              Recognising and storing <b>{of.name}</b> …
            </>
          )
        }
      />
      {sent < of.blob.size && (
        <p style={{ marginTop: "0.6rem" }}>
          <Button onPress={stop}>Stop sending</Button>
        </p>
      )}
    </Panel>
  );
}

function WhichWorld({
  of,
  roots,
  labels,
  choose,
}: {
  of: Sending;
  roots: string[];
  labels: string[];
  choose: (root: string) => void;
}) {
  return (
    <Panel>
      <h2>
        {of.name} holds {roots.length} worlds. Which one?
      </h2>
      <Which
        aria-label="Which world"
        onChange={choose}
      >
        {roots.map((r, i) => (
          <Radio
            key={r}
            value={r}
            className="world"
          >
            {labels[i] && (
              <>
                {labels[i]}
                <br />
              </>
            )}
            <code>{r}</code>
          </Radio>
        ))}
      </Which>
    </Panel>
  );
}

function HasArrived({ arrival, onArrived }: { arrival: Arrival; onArrived?: (world: string) => void }) {
  const told = useRef(false);
  useEffect(() => {
    if (told.current) return;
    told.current = true;
    onArrived?.(arrival.copy.world);
  }, [arrival, onArrived]);
  return (
    <Panel aria-live="polite">
      <p>
        {arrival.new ? "Stored" : "The library has this already:"} <b>{quoted(arrival.copy.facts.title)}</b>,{" "}
        {bytes(arrival.copy.bytes)}.{" "}
        <Link
          to="/library/$world"
          params={{ world: arrival.copy.world }}
        >
          Look at it
        </Link>{" "}
        <Link
          to="/bring"
          search={{ world: arrival.copy.world }}
        >
          Put it onto a server
        </Link>
      </p>
      {arrival.copy.facts.warnings.map((w) => (
        <Muted key={w}>! {w}</Muted>
      ))}
      {arrival.ignored.length > 0 && (
        <Muted>
          Not taken along: {arrival.ignored.slice(0, 3).join(", ")}
          {arrival.ignored.length > 3 && ` and ${arrival.ignored.length - 3} more`}
        </Muted>
      )}
      {arrival.same?.map((s) => (
        <p key={s.world}>
          It may be the same world as{" "}
          <Link
            to="/library/$world"
            params={{ world: s.world }}
          >
            {quoted(s.title)}
          </Link>
          : {s.why}.
        </p>
      ))}
    </Panel>
  );
}

type Sent = { of: Sending; onEnd: () => void; onArrived?: (world: string) => void };

function OneSending({ of, onEnd, onArrived }: Sent) {
  const client = useQueryClient();
  const [sent, setSent] = useState(0);
  const [pace, setPace] = useState("");
  const abort = useRef<AbortController>(null);
  const id = useRef("");
  const begun = useRef(false);
  const send = useMutation<Arrival, Error, { root: string }>({
    mutationFn: async ({ root }) => {
      if (id.current) return api.takeArrival(id.current, root, "");
      abort.current = new AbortController();
      const start = performance.now();
      const got = await sendWorld(
        of.blob,
        of.name,
        root,
        of.resume,
        (n) => {
          setSent(n);
          setPace(paceText(n, of.blob.size, performance.now() - start));
        },
        abort.current.signal,
      );
      id.current = got.id;
      return got.arrival;
    },
    onSettled: () =>
      Promise.all([
        client.invalidateQueries({ queryKey: ["worlds"] }),
        client.invalidateQueries({ queryKey: ["arrivals"] }),
      ]),
  });
  const { mutate } = send;
  useEffect(() => {
    if (begun.current) return;
    begun.current = true;
    mutate({ root: of.root });
  }, [mutate, of.root]);
  const many = send.error instanceof Problem && send.error.code === "many-worlds" ? send.error.options : [];
  const labels = send.error instanceof Problem ? send.error.labels : [];
  if (send.isPending || send.isIdle) {
    return (
      <UnderWay
        of={of}
        sent={sent}
        pace={pace}
        stop={() => abort.current?.abort()}
      />
    );
  }
  if (many.length > 0) {
    return (
      <WhichWorld
        of={of}
        roots={many}
        labels={labels}
        choose={(root) => send.mutate({ root })}
      />
    );
  }
  if (send.isError) {
    if (send.error.name === "AbortError") {
      return (
        <Panel>
          <p>
            Stopped sending <b>{of.name}</b>. What has come is kept for three days.{" "}
            <Button onPress={() => send.mutate({ root: of.root })}>Go on</Button>{" "}
            <Button onPress={onEnd}>Leave it</Button>
          </p>
        </Panel>
      );
    }
    return <Failure error={send.error} />;
  }
  return send.data ? (
    <HasArrived
      arrival={send.data}
      onArrived={onArrived}
    />
  ) : null;
}

async function filesOf(folder: DirectoryDropItem, below: string): Promise<Entry[]> {
  const out: Entry[] = [];
  for await (const item of folder.getEntries()) {
    const path = below ? `${below}/${item.name}` : item.name;
    if (item.kind === "file") out.push({ path, file: await item.getFile() });
    else if (item.kind === "directory") out.push(...(await filesOf(item, path)));
  }
  return out;
}

/** A folder that was dropped or picked: its worlds are shown before anything large is sent. */
function FoundWorlds({
  name,
  entries,
  found,
  onSend,
}: {
  name: string;
  entries: Entry[];
  found: Recognised;
  onSend: (blob: Blob, name: string) => void;
}) {
  const [sent, setSent] = useState<string[]>([]);
  const pictures = useMemo(
    () => Object.fromEntries(Object.entries(found.pictures).map(([at, data]) => [at, pictureAddress(data)])),
    [found],
  );
  return (
    <Panel>
      <h2>
        {found.worlds.length > 0
          ? `${count(found.worlds.length, "world", "worlds")} in ${name}`
          : `No world of a known game in ${name}`}
      </h2>
      <Found>
        {found.worlds.map((w) => (
          <li key={w.at}>
            <Picture
              size={72}
              src={pictures[w.at]}
              of={w.world.title}
            />
            <div className="about">
              <p>
                <b>{quoted(w.world.title || w.world.folder)}</b> <code>{w.at}</code>
              </p>
              <Muted>
                {w.world.game}
                {w.world.facts.version?.text && `, version ${w.world.facts.version.text}`}
                {w.world.facts.seed?.text && `, seed ${w.world.facts.seed.text}`}, {bytes(w.world.bytes)},{" "}
                {count(w.world.playerCount, "player", "players")}, last played {when(w.world.lastPlayed)}
              </Muted>
              {w.likely && (
                <p>
                  <Mark of="fits">most likely the one you mean: {w.likely}</Mark>
                </p>
              )}
              {w.damaged && (
                <p>
                  <Mark of="blocks">damaged: {w.damaged}</Mark>
                </p>
              )}
              {w.open && (
                <p>
                  <Mark of="adjust">seems to be open in the game ({w.open}): quit the game first</Mark>
                </p>
              )}
              {w.world.warnings.map((say) => (
                <Muted key={say}>! {say}</Muted>
              ))}
            </div>
            <Button
              look={w.likely || found.worlds.length === 1 ? "main" : "plain"}
              isDisabled={sent.includes(w.at)}
              aria-label={`Send ${w.world.title || w.at}`}
              onPress={() => {
                setSent([...sent, w.at]);
                onSend(archiveOf(w, entries), `${w.world.folder}.tar`);
              }}
            >
              Send it
            </Button>
          </li>
        ))}
      </Found>
      {found.unfamiliar.map((u) => (
        <Muted key={u.at}>
          ? {u.at} is no world: {u.why}
        </Muted>
      ))}
    </Panel>
  );
}

/** Takes archives, files that are worlds, and folders; several at a time. onArrived is told of a single one. */
export function Arrivals({ onArrived }: { onArrived?: (world: string) => void }) {
  const [sendings, setSendings] = useState<Sending[]>([]);
  const [folder, setFolder] = useState<{ name: string; entries: Entry[] }>();
  const [asked, setAsked] = useState(0);
  const looking = useMutation<Recognised, Error, { name: string; entries: Entry[] }>({
    mutationFn: ({ name, entries }) => recognise(name, entries, setAsked),
  });
  const add = (blob: Blob, name: string, resume: string) =>
    setSendings((old) => [{ key: (old[0]?.key ?? 0) + 1, name, blob, root: "", resume }, ...old]);
  const takeFiles = (files: File[]) => {
    for (const f of files) add(f, f.name, `reshard ${f.name} ${f.size} ${f.lastModified}`);
  };
  const takeFolder = (name: string, entries: Entry[]) => {
    setAsked(0);
    setFolder({ name, entries });
    looking.mutate({ name, entries });
  };
  const drop = async (items: DropItem[]) => {
    const files: File[] = [];
    for (const item of items) {
      if (item.kind === "file") files.push(await item.getFile());
      else if (item.kind === "directory") takeFolder(item.name, await filesOf(item, ""));
    }
    takeFiles(files);
  };
  return (
    <>
      <Zone
        onDrop={(e) => void drop(e.items)}
        aria-label="Drop worlds here"
      >
        <p>
          <b>Drop a world's archive here,</b> a save file, or the game's whole saves folder. Of a folder only
          names and a few small files are looked at before you choose; nothing of yours is changed.
        </p>
        <FileTrigger
          acceptDirectory
          onSelect={(list) => {
            const all = [...(list ?? [])];
            const top = all[0]?.webkitRelativePath.split("/")[0];
            if (top)
              takeFolder(
                top,
                all.map((f) => ({ path: f.webkitRelativePath.slice(top.length + 1), file: f })),
              );
          }}
        >
          <Button>Choose a folder</Button>
        </FileTrigger>
        <FileTrigger
          allowsMultiple
          onSelect={(list) => takeFiles([...(list ?? [])])}
        >
          <Button look="main">Choose files</Button>
        </FileTrigger>
      </Zone>
      {looking.isPending && (
        <Panel aria-live="polite">
          <p>
            Looking at {count(folder?.entries.length ?? 0, "name", "names")} in <b>{folder?.name}</b>
            {asked > 0 && `, and into ${count(asked, "file", "files")}`} …
          </p>
        </Panel>
      )}
      {looking.isError && <Failure error={looking.error} />}
      {looking.data && folder && (
        <FoundWorlds
          name={folder.name}
          entries={folder.entries}
          found={looking.data}
          onSend={(blob, name) => add(blob, name, "")}
        />
      )}
      {sendings.map((s) => (
        <OneSending
          key={s.key}
          of={s}
          onEnd={() => setSendings((old) => old.filter((o) => o !== s))}
          onArrived={sendings.length === 1 ? onArrived : undefined}
        />
      ))}
      <Unfinished busy={sendings.length > 0} />
    </>
  );
}

/** Uploads that have not become a copy: from this browser before, or from elsewhere. */
function Unfinished({ busy }: { busy: boolean }) {
  const client = useQueryClient();
  const list = useQuery(queries.arrivals());
  const drop = useMutation({
    mutationFn: api.dropArrival,
    onSettled: () => client.invalidateQueries({ queryKey: ["arrivals"] }),
  });
  if (busy || !list.data || list.data.length === 0) return null;
  return (
    <Panel>
      <h2>Not finished</h2>
      <Muted>Choose the same file again to go on where it was.</Muted>
      <Table>
        <thead>
          <tr>
            <th>File</th>
            <th>Has come</th>
            <th>By</th>
            <th>Last</th>
            <th>Is removed</th>
            <th>
              <span className="unseen">Remove</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {list.data.map((u) => (
            <tr key={u.id}>
              <td>{u.name}</td>
              <td>
                {u.received === u.size
                  ? `${bytes(u.size)}, all of it`
                  : `${bytes(u.received)} of ${bytes(u.size)}`}
              </td>
              <td>{u.by}</td>
              <td>{when(u.last)}</td>
              <td>{when(u.goes)}</td>
              <td>
                <Button
                  aria-label={`Remove ${u.name}`}
                  onPress={() => drop.mutate(u.id)}
                >
                  Remove
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      {drop.isError && <Failure error={drop.error} />}
    </Panel>
  );
}
