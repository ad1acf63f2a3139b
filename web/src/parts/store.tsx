import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import styled from "styled-components";
import { api, type Store, type StoreDeletion } from "../api/client";
import { queries } from "../api/queries";
import { bytes, count, sentence, when } from "../words";
import { Button } from "./controls";
import { Failure, Muted } from "./layout";
import { Mark } from "./marks";

export const Item = styled.li`
  display: grid;
  gap: 0.25rem;
  padding: 0.6rem 0;
  border-bottom: 1px solid var(--line);
  &:last-child {
    border-bottom: 0;
  }
  code {
    overflow-wrap: anywhere;
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
  }
  .list {
    max-height: 16rem;
    overflow-y: auto;
    padding-left: 1.2rem;
  }
`;

/** What a store has and lacks, whose it is, what needs a person there, and what can be done about it. */
export function StoreItem({ store: s }: { store: Store }) {
  const client = useQueryClient();
  const again = () => client.invalidateQueries({ queryKey: ["stores"] });
  const check = useMutation({ mutationFn: () => api.checkStore(s.name), onSettled: again });
  const remove = useMutation({ mutationFn: () => api.removeStore(s.name), onSettled: again });
  const recover = useMutation({ mutationFn: () => api.recover(s.name) });
  const confirm = useMutation({ mutationFn: () => api.confirmStore(s.name), onSettled: again });
  const [open, setOpen] = useState<"" | "recover" | "forget" | "deletes" | "take-over" | "confirm">("");
  const where =
    s.kind === "s3" ? `${s.endpoint}/${s.bucket}${s.prefix ? `/${s.prefix}` : ""}` : (s.folder ?? "");
  const found = check.data?.findings ?? [];
  const stopped = s.troubleNext?.includes("take-over") || s.readOnly;
  const misplaced = s.troubleNext?.includes("stores confirm");
  return (
    <Item>
      <p>
        <Mark
          of={s.trouble ? "blocks" : s.asks ? "waiting" : s.lacks > 0 ? "staging" : "done"}
          quiet
        >
          <strong>{s.name}</strong>
        </Mark>{" "}
        <code>{where}</code>, {s.plain ? "not encrypted" : "encrypted"}
        {s.readOnly && ", read-only"}
      </p>
      <Muted>{standing(s)}</Muted>
      {s.warnings?.map((w) => (
        <Muted key={w}>{w}</Muted>
      ))}
      {s.trouble && (
        <p>
          <strong>{sentence(s.trouble)}.</strong> {s.troubleNext}
        </p>
      )}
      {s.asks && (
        <p>
          <strong>{sentence(s.asks)}.</strong>
        </p>
      )}
      <div className="acts">
        <Button
          isDisabled={check.isPending}
          onPress={() => check.mutate()}
        >
          {check.isPending ? "Reading all of it back …" : "Read it back now"}
        </Button>
        <Button
          look={s.asks ? "main" : "plain"}
          aria-expanded={open === "deletes"}
          onPress={() => setOpen(open === "deletes" ? "" : "deletes")}
        >
          Packs to delete …
        </Button>
        {stopped && <Button onPress={() => setOpen("take-over")}>Take over …</Button>}
        {misplaced &&
          (open === "confirm" ? (
            <Button
              look="grave"
              isDisabled={confirm.isPending}
              onPress={() => confirm.mutate(undefined, { onSettled: () => setOpen("") })}
            >
              Keep it in {s.folder}
            </Button>
          ) : (
            <Button onPress={() => setOpen("confirm")}>Keep it there …</Button>
          ))}
        {open === "recover" ? (
          <Button
            look="grave"
            isDisabled={recover.isPending}
            onPress={() => recover.mutate(undefined, { onSettled: () => setOpen("") })}
          >
            Bring everything back into the vault
          </Button>
        ) : (
          <Button onPress={() => setOpen("recover")}>Recover from it …</Button>
        )}
        {open === "forget" ? (
          <Button
            look="grave"
            isDisabled={remove.isPending}
            onPress={() => remove.mutate()}
          >
            Forget it: what is in it stays there
          </Button>
        ) : (
          <Button onPress={() => setOpen("forget")}>Forget it …</Button>
        )}
      </div>
      {open === "deletes" && <Deletes name={s.name} />}
      {open === "take-over" && (
        <TakeOver
          name={s.name}
          onDone={() => setOpen("")}
        />
      )}
      {check.data && (
        <output>
          {count(check.data.packs, "pack was", "packs were")} read back
          {found.length === 0
            ? "; everything is as it was sent."
            : `: ${found.map((f) => f.what).join("; ")}`}
        </output>
      )}
      {recover.data && (
        <output>
          It comes back. <Link to="/vault">How far it is</Link>
        </output>
      )}
      {check.isError && <Failure error={check.error} />}
      {remove.isError && <Failure error={remove.error} />}
      {recover.isError && <Failure error={recover.error} />}
      {confirm.isError && <Failure error={confirm.error} />}
    </Item>
  );
}

/** How it stands with a store, in sentences. */
function standing(s: Store): string {
  const says = [`It has ${count(s.packs, "pack", "packs")} (${bytes(s.bytes)})`];
  if (s.readOnly) {
    says[0] += ". Reshard sends nothing there: it was added for a recovery.";
  } else if (s.lacks > 0) {
    says[0] += ` and lacks ${count(s.lacks, "pack", "packs")} (${bytes(s.lacksBytes)}), the oldest since ${when(s.behind)}.`;
  } else if (s.trouble) {
    says[0] += ` and lacked nothing when it was last reached (${s.reached ? when(s.reached) : "never"}).`;
  } else {
    says[0] += " and lacks nothing.";
  }
  if (s.checked) {
    says.push(`Everything in it was read back since ${when(s.checked)}.`);
  }
  if (s.oldKeys > 0) {
    says.push(`${count(s.oldKeys, "pack uses", "packs use")} an older key; Reshard re-encrypts them.`);
  }
  if (s.unread) {
    says.push(`${count(s.unread, "pack has", "packs have")} not been read here yet.`);
  }
  if (s.foreign) {
    says.push(
      `${count(s.foreign, "pack belongs", "packs belong")} to another service; this one never deletes them.`,
    );
  }
  return says.join(" ");
}

/** Lists refused packs, and packs that are no longer needed with their dates. Deletes those that are due. */
function Deletes({ name }: { name: string }) {
  const client = useQueryClient();
  const one = useQuery(queries.store(name));
  const list = one.data?.deletes ?? [];
  const due = list.filter((d) => d.due);
  const tidy = useMutation({
    mutationFn: () =>
      api.tidyStore(
        name,
        due.map((d) => d.pack),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ["stores"] }),
  });
  if (one.isError) {
    return <Failure error={one.error} />;
  }
  if (!one.data) {
    return <Muted>Reading what is there …</Muted>;
  }
  return (
    <>
      {one.data.waiting?.map((w) => (
        <p key={w.pack}>
          Pack <code>{w.pack.slice(0, 12)}</code> was refused ({count(w.tries, "try", "tries")}), next try{" "}
          {when(w.again)}: {w.why}
        </p>
      ))}
      {list.length === 0 ? (
        <Muted>None: the vault needs all of them.</Muted>
      ) : (
        <>
          <Muted>No longer needed: {size(list)}. The store has all packs that the vault needs now.</Muted>
          <ul className="list">
            {list.slice(0, 500).map((d) => (
              <li key={d.pack}>
                <code>{d.pack.slice(0, 12)}</code> {bytes(d.bytes)},{" "}
                {d.due ? `due since ${when(d.at)}` : `deleted after ${when(d.at)}`}
              </li>
            ))}
          </ul>
        </>
      )}
      {due.length > 0 && (
        <p>
          <Button
            look="grave"
            isDisabled={tidy.isPending}
            onPress={() => tidy.mutate()}
          >
            {tidy.isPending ? "Deleting …" : `Delete ${size(due)} now`}
          </Button>
        </p>
      )}
      {tidy.isError && <Failure error={tidy.error} />}
    </>
  );
}

function size(list: StoreDeletion[]): string {
  return `${count(list.length, "pack", "packs")} (${bytes(list.reduce((sum, d) => sum + d.bytes, 0))})`;
}

/** Shows the owner of a store, and takes the store over. */
function TakeOver({ name, onDone }: { name: string; onDone: () => void }) {
  const client = useQueryClient();
  const holder = useQuery(queries.storeHolder(name));
  const take = useMutation({
    mutationFn: (mark: string) => api.takeStoreOver(name, mark),
    onSuccess: onDone,
    onSettled: () => client.invalidateQueries({ queryKey: ["stores"] }),
  });
  if (holder.isError) {
    return <Failure error={holder.error} />;
  }
  const h = holder.data;
  if (!h) {
    return <Muted>Reading its owner …</Muted>;
  }
  if (h.ours) {
    return <Muted>It already belongs to this service.</Muted>;
  }
  return (
    <>
      <p>
        It has {count(h.packs, "pack", "packs")} ({bytes(h.bytes)}).{" "}
        {h.since
          ? `It belongs to ${h.service ? `the service on ${h.service}` : "another service"}, since ${when(h.since)}.`
          : "It has no mark."}
        {h.packs > h.known &&
          ` ${count(h.packs - h.known, "pack is", "packs are")} not in this vault. This service never deletes such packs. To bring them here, recover first.`}{" "}
        If the other service still runs, it stops writing there.
      </p>
      <p>
        <Button
          look="grave"
          isDisabled={take.isPending}
          onPress={() => take.mutate(h.mark)}
        >
          Take it over
        </Button>
      </p>
      {take.isError && <Failure error={take.error} />}
    </>
  );
}
