import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useRef, useState } from "react";
import { DropZone, FileTrigger, ProgressBar, Radio, RadioGroup, type DropItem } from "react-aria-components";
import styled from "styled-components";
import { Problem, sendWorld, type Arrival } from "../api/client";
import { queries } from "../api/queries";
import { Field } from "../parts/form";
import { Button } from "../parts/controls";
import { copyPicture, Failure, Head, Muted, Page, Panel, Picture, Table } from "../parts/layout";
import { bytes, quoted, when } from "../words";

const Zone = styled(DropZone)`
  border: 2px dashed var(--line-strong); border-radius: 7px; padding: 1.1rem; display: flex; gap: 1rem; align-items: center; flex-wrap: wrap; background: var(--sheet);
  &[data-drop-target] { border-color: var(--accent); background: var(--accent-soft); }
  &[data-focus-visible] { outline: 2px solid var(--focus); outline-offset: 2px; }
  p { margin-right: auto; }
`;

const Bar = styled.div`
  height: 9px; background: var(--line); border-radius: 5px; overflow: hidden; margin-top: 0.4rem;
  div { height: 100%; background: var(--accent); }
`;

const Which = styled(RadioGroup)`
  display: flex; gap: 0.5rem; flex-wrap: wrap; margin-top: 0.6rem;
  .world { border: 1px solid var(--line-strong); border-radius: 5px; padding: 0.3rem 0.7rem; cursor: pointer; background: var(--raised); }
  .world[data-focus-visible] { outline: 2px solid var(--focus); }
  .world[data-selected] { border-color: var(--accent); background: var(--accent-soft); }
`;

/** Takes an archive, shows how far it is, and asks when it holds several worlds. */
function Sender() {
  const client = useQueryClient();
  const [file, setFile] = useState<File>();
  const [sent, setSent] = useState(0);
  const [rate, setRate] = useState(0);
  const [wrong, setWrong] = useState<string>();
  const abort = useRef<AbortController>(null);
  const send = useMutation<Arrival, Error, { file: File; root: string }>({
    mutationFn: ({ file: f, root }) => {
      abort.current = new AbortController();
      const begun = performance.now();
      setSent(0);
      return sendWorld(f, root, (n) => {
        setSent(n);
        setRate((1000 * n) / Math.max(1, performance.now() - begun));
      }, abort.current.signal);
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["worlds"] }),
  });
  const take = (f: File | undefined) => {
    if (!f) return;
    setWrong(undefined);
    setFile(f);
    send.mutate({ file: f, root: "" });
  };
  const drop = async (items: DropItem[]) => {
    const first = items.find((i) => i.kind === "file");
    if (!first) return setWrong("A folder cannot be sent from here yet. Drop an archive of it, or use reshard send FOLDER.");
    take(await first.getFile());
  };
  const many = send.error instanceof Problem && send.error.code === "many-worlds" ? send.error.options : [];
  return (
    <>
      <Zone onDrop={(e) => void drop(e.items)} aria-label="Drop a world here">
        <p><b>Drop a world's archive here,</b> or the save file of a game whose worlds are files. It is recognised before it is stored; the file itself is never changed.</p>
        <FileTrigger onSelect={(list) => take(list?.[0])}><Button look="main" isDisabled={send.isPending}>Choose a file</Button></FileTrigger>
      </Zone>
      {wrong && <Failure error={wrong} />}
      {send.isPending && file && (
        <Panel aria-live="polite">
          <ProgressBar aria-label={`Sending ${file.name}`} value={(100 * sent) / Math.max(1, file.size)}>
            {({ percentage }) => (<>
              <p>{sent < file.size ? <>Sending <b>{file.name}</b>: {bytes(sent)} of {bytes(file.size)}, {bytes(rate)}/s</> : <>Recognising and storing <b>{file.name}</b> …</>}</p>
              <Bar><div style={{ width: `${percentage}%` }} /></Bar>
            </>)}
          </ProgressBar>
          <p style={{ marginTop: "0.6rem" }}><Button onPress={() => abort.current?.abort()}>Cancel</Button></p>
        </Panel>
      )}
      {send.isError && send.error.name !== "AbortError" && many.length === 0 && <Failure error={send.error} />}
      {many.length > 0 && file && (
        <Panel>
          <h2>{file.name} holds {many.length} worlds. Which one?</h2>
          <Which aria-label="Which world" onChange={(root) => send.mutate({ file, root })}>
            {many.map((r) => <Radio key={r} value={r} className="world"><code>{r}</code></Radio>)}
          </Which>
        </Panel>
      )}
      {send.isSuccess && (
        <Panel aria-live="polite">
          <p>{send.data.new ? "Stored" : "The library has this already:"} <b>{quoted(send.data.copy.facts.title)}</b>, {bytes(send.data.copy.bytes)}. <Link to="/library/$world" params={{ world: send.data.copy.world }}>Look at it</Link></p>
          {send.data.copy.facts.warnings.map((w) => <Muted key={w}>! {w}</Muted>)}
        </Panel>
      )}
    </>
  );
}

export function Library() {
  const [search, setSearch] = useState("");
  const worlds = useQuery({ ...queries.worlds(search.trim()), placeholderData: (old) => old });
  return (
    <Page>
      <Head><h1>Library</h1></Head>
      <Sender />
      {worlds.isError && <Failure error={worlds.error} />}
      {(search !== "" || (worlds.data?.length ?? 0) > 5) && <Panel><Field label="Search" hint="words of a title, folder, game, seed, version, player, or where it came from" value={search} onChange={setSearch} /></Panel>}
      {worlds.data?.length === 0 && search !== "" && <Panel><Muted>No world of the library has all of that.</Muted></Panel>}
      {worlds.data?.length === 0 && search === "" && <Panel><Muted>The library is empty. Nothing can be put onto a server before a world is here.</Muted></Panel>}
      {worlds.data && worlds.data.length > 0 && (
        <Panel>
          <Table>
            <thead><tr><th><span className="unseen">Picture</span></th><th>World</th><th>Game</th><th>Version</th><th>Seed</th><th>Players</th><th>Size</th><th>Last played</th><th>Came</th></tr></thead>
            <tbody>
              {worlds.data.map((w) => {
                const c = w.copies[0];
                return (
                  <tr key={w.name}>
                    <td><Picture size={38} src={w.copies[0]?.drawn ? copyPicture(w.copies[0].id) : undefined} of={w.title} /></td>
                    <td><Link to="/library/$world" params={{ world: w.name }}><b>{quoted(w.title)}</b></Link><br /><code>{w.name}</code></td>
                    <td>{w.game}</td><td>{c?.facts.facts.version?.text || "–"}</td><td><code>{c?.facts.facts.seed?.text || "–"}</code></td>
                    <td>{c?.facts.players.length ?? 0}</td><td>{bytes(c?.bytes ?? -1)}</td><td>{when(c?.facts.lastPlayed)}</td><td>{when(c?.createdAt)}</td>
                  </tr>
                );
              })}
            </tbody>
          </Table>
        </Panel>
      )}
    </Page>
  );
}
