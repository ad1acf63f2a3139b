import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import styled from "styled-components";
import { api, type VaultState } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
import { Answer, Crumb, Facts, Failure, Head, Muted, Page, Panel, Progress } from "../parts/layout";
import { Mark } from "../parts/marks";
import { bytes, count, when } from "../words";

const Works = styled.ul`
  display: grid;
  gap: 0.8rem;
  li {
    display: flex;
    gap: 1rem;
    align-items: center;
  }
  span {
    flex: 1;
  }
`;

const names = { check: "Check", collect: "Collection", rebuild: "Rebuild", recover: "Recovery" };

export function Vault() {
  const client = useQueryClient();
  const vault = useQuery(queries.vault());
  const work = useMutation({
    mutationFn: api.workOnVault,
    onSettled: () => client.invalidateQueries({ queryKey: ["vault"] }),
  });
  const v = vault.data;
  const busy = !!v?.work && !v.work.ended;
  return (
    <Page>
      <div>
        <Crumb>
          <Link to="/library">Library</Link>
        </Crumb>
        <Head>
          <h1>The vault</h1>
        </Head>
      </div>
      <Answer
        of={vault}
        waiting="Reading what is stored"
      >
        {(stored) => (
          <Panel>
            <Facts>
              <dt>Copies</dt>
              <dd>
                {count(stored.copies, "copy", "copies")}, {bytes(stored.content)} unpacked
              </dd>
              <dt>On disk</dt>
              <dd>
                {bytes(stored.bytes)} in {count(stored.packs, "pack", "packs")}
                {stored.bytes < stored.content &&
                  `: ${Math.round((100 * stored.bytes) / stored.content)} %, since what copies share is stored once`}
              </dd>
            </Facts>
          </Panel>
        )}
      </Answer>
      <Panel>
        <h2>Look after it</h2>
        <Works>
          <li>
            <span>
              <b>Check</b>: read everything back, and name the copies that damage touches.
            </span>
            <Button
              isDisabled={busy}
              onPress={() => work.mutate("check")}
            >
              Check it
            </Button>
          </li>
          <li>
            <span>
              <b>Collect</b>: remove what no copy of the library needs. It happens by itself each day.
            </span>
            <Button
              isDisabled={busy}
              onPress={() => work.mutate("collect")}
            >
              Collect
            </Button>
          </li>
          <li>
            <span>
              <b>Rebuild</b>: make the index anew from the packs, after a loss of the database.
            </span>
            <Button
              isDisabled={busy}
              onPress={() => work.mutate("rebuild")}
            >
              Rebuild
            </Button>
          </li>
        </Works>
        {work.isError && <Failure error={work.error} />}
      </Panel>
      {v?.work && <Work of={v.work} />}
    </Page>
  );
}

function Work({ of }: { of: NonNullable<VaultState["work"]> }) {
  const name = names[of.kind];
  if (!of.ended) {
    const far =
      of.kind === "check" ? `${bytes(of.done)} of ${bytes(of.all)}` : `pack ${of.done} of ${of.all}`;
    return (
      <Panel aria-live="polite">
        <Progress
          label={name}
          done={of.done}
          all={of.all}
          above={`${name} by ${of.by}: ${far}`}
        />
      </Panel>
    );
  }
  const damaged = of.checked?.damaged ?? of.rebuilt?.damaged ?? [];
  const touched = of.checked?.touched ?? [];
  const mended = of.checked?.mended ?? [];
  return (
    <Panel aria-live="polite">
      <h2>
        {name} of {when(of.ended)}, by {of.by}
      </h2>
      {of.failure && <Failure error={new Error(`${of.failure.what}. ${of.failure.next}`)} />}
      {of.checked && !of.failure && damaged.length + touched.length === 0 && (
        <p>
          <Mark of="fits">
            {mended.length > 0
              ? "everything that was damaged is whole again"
              : "everything is as it was stored"}
          </Mark>{" "}
          {count(of.checked.entries, "entry", "entries")}, {bytes(of.checked.bytes)}
        </p>
      )}
      {of.collected && !of.failure && (
        <p>
          {bytes(of.collected.bytes)} freed; {count(of.collected.removed, "pack", "packs")} removed,{" "}
          {count(of.collected.rewritten, "pack", "packs")} written anew,{" "}
          {count(of.collected.joined, "small pack", "small packs")} joined.
          {of.collected.strays > 0 &&
            ` ${count(of.collected.strays, "pack", "packs")} the index does not know: rebuild it.`}
        </p>
      )}
      {of.rebuilt && !of.failure && (
        <p>
          {count(of.rebuilt.entries, "entry", "entries")} in {count(of.rebuilt.packs, "pack", "packs")},{" "}
          {count(of.rebuilt.copies.length, "copy", "copies")}.
        </p>
      )}
      {mended.slice(0, 10).map((m) => (
        <p key={m.pack}>
          Pack <code>{m.pack.slice(0, 12)}</code> was damaged ({m.why}): it is whole again, from store{" "}
          {m.store}.
        </p>
      ))}
      {damaged.slice(0, 10).map((d) => (
        <p key={d.pack + (d.name ?? "")}>
          <Mark of="blocks">damaged</Mark> pack <code>{d.pack.slice(0, 12)}</code>: {d.why}
        </p>
      ))}
      {touched.map((t) => (
        <p key={t.copy}>
          ! copy <code>{t.copy.slice(0, 12)}</code>:{" "}
          {t.count > 0
            ? `${count(t.count, "file", "files")}: ${t.files.slice(0, 3).join(", ")}`
            : "its list of files does not read"}
        </p>
      ))}
      {touched.length > 0 && (
        <Muted>
          No store has that whole. Bring those worlds again from where they came from: that stores what is
          damaged anew. If a store that has it answers again, the next check mends it.
        </Muted>
      )}
    </Panel>
  );
}
