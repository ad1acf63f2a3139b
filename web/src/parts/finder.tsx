import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useMemo, useState } from "react";
import {
  Autocomplete,
  Dialog,
  Input,
  Label,
  Menu,
  MenuItem,
  Modal,
  ModalOverlay,
  SearchField,
  Text,
} from "react-aria-components";
import styled from "styled-components";
import type { Server, World } from "../api/client";
import { queries } from "../api/queries";

const Over = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  z-index: 10;
  background: rgb(0 0 0 / 35%);
  display: grid;
  justify-items: center;
  align-items: start;
  padding: 12vh 1rem 1rem;
`;

const Box = styled(Modal)`
  width: min(38rem, 100%);
  background: var(--raised);
  border: 1px solid var(--line-strong);
  border-radius: 8px;
  box-shadow: 0 8px 30px rgb(0 0 0 / 25%);
  [role="dialog"] {
    max-height: 80vh;
    overflow: auto;
    outline: none;
    display: grid;
    gap: 0.5rem;
    padding: 0.8rem;
  }
  input {
    font: inherit;
    font-size: 1.1rem;
    width: 100%;
    padding: 0.5rem 0.7rem;
    border: 1px solid var(--line-strong);
    border-radius: 5px;
    background: var(--sheet);
    color: var(--ink);
  }
  label {
    font-weight: 600;
    font-size: 0.9rem;
  }
  [role="menu"] {
    display: grid;
    gap: 1px;
    outline: none;
  }
  [role="menuitem"] {
    padding: 0.45rem 0.6rem;
    border-radius: 4px;
    cursor: pointer;
    outline: none;
    overflow-wrap: anywhere;
  }
  [role="menuitem"][data-focused] {
    background: var(--accent-soft);
    box-shadow: inset 3px 0 0 var(--accent);
  }
  [slot="description"] {
    color: var(--muted);
    margin-left: 0.6rem;
    font-size: 0.88rem;
  }
`;

/** One thing that can be gone to. Nothing is done by the palette itself: what changes something has its page. */
export type Going = { id: string; says: string; about: string; to: string };

const places: Going[] = [
  ["Home", "what needs somebody", "/"],
  ["Servers", "all of them", "/servers"],
  ["Library", "worlds and their copies", "/library"],
  ["Changeovers", "what was done", "/changeovers"],
  ["Backups", "rules, stores, who is told", "/backups"],
  ["Games", "what is known of them", "/games"],
  ["Hosts", "machines and accounts", "/hosts"],
  ["Users", "who may sign in", "/users"],
  ["Vault", "what is stored, and checks", "/vault"],
  ["Bring a world over", "from your computer or the library", "/bring"],
  ["Add a server", "so that worlds can be put there", "/add-server"],
].map(([says = "", about = "", to = ""]) => ({ id: to, says, about, to }));

/** How many are shown: what is meant comes with another letter sooner than by scrolling. */
const most = 12;

/** What a person may mean by some words: every word has to stand in it. */
export function goings(words: string, servers: Server[], worlds: World[]): Going[] {
  const asked = words.toLowerCase().split(/\s+/).filter(Boolean);
  const out: Going[] = [...places];
  const server = (s: Server, tab: string, says: string, about: string) =>
    out.push({ id: `${s.name} ${tab}`, says, about, to: `/servers/${encodeURIComponent(s.name)}${tab}` });
  for (const s of servers) {
    server(s, "", s.name, `${s.game}, ${s.state}, ${s.activeTitle || s.active || "no world"}`);
    if (asked.length === 0) continue;
    server(s, "?tab=log", `Log of ${s.name}`, "what it says");
    server(s, "?tab=backups", `Backups of ${s.name}`, "make one, go back to one");
    out.push({
      id: `reset ${s.name}`,
      says: `New world on ${s.name}`,
      about: "reset",
      to: `/change?${new URLSearchParams({ kind: "reset", server: s.name })}`,
    });
  }
  for (const w of worlds) {
    const at = `/library/${encodeURIComponent(w.name)}`;
    out.push({ id: `world ${w.name}`, says: w.title || w.name, about: `world of ${w.game}`, to: at });
    if (asked.length < 2) continue;
    for (const s of servers.filter((o) => o.game === w.game)) {
      const to = `/change?${new URLSearchParams({ kind: "put", server: s.name, world: w.name })}`;
      const says = `Put ${w.title || w.name} onto ${s.name}`;
      out.push({ id: `put ${w.name} ${s.name}`, says, about: w.name, to });
    }
  }
  return out
    .filter((g) => asked.every((word) => `${g.says} ${g.about}`.toLowerCase().includes(word)))
    .slice(0, most);
}

/** The palette itself, open. */
export function Finder({ close }: { close: () => void }) {
  return (
    <Over
      isOpen
      onOpenChange={(open) => !open && close()}
      isDismissable
    >
      <Box>
        <Dialog aria-label="Go to or do">
          <Search close={close} />
        </Dialog>
      </Box>
    </Over>
  );
}

function Search({ close }: { close: () => void }) {
  const navigate = useNavigate();
  const [words, setWords] = useState("");
  const servers = useQuery(queries.servers());
  const worlds = useQuery(queries.worlds());
  const found = useMemo(
    () => goings(words, servers.data ?? [], worlds.data ?? []),
    [words, servers.data, worlds.data],
  );
  return (
    <Autocomplete
      inputValue={words}
      onInputChange={setWords}
    >
      {/* Whoever opens it is about to type. */}
      {/* oxlint-disable-next-line jsx-a11y/no-autofocus */}
      <SearchField autoFocus>
        <Label>A server, a world, a page, or what to do: put fen north</Label>
        <Input />
      </SearchField>
      <Menu
        aria-label="Found"
        items={found}
        renderEmptyState={() => "Nothing has all of that."}
        onAction={(id) => {
          const to = found.find((g) => g.id === id)?.to;
          close();
          if (to) void navigate({ href: to });
        }}
      >
        {(g) => (
          <MenuItem
            id={g.id}
            textValue={g.says}
          >
            <Text slot="label">{g.says}</Text>
            <Text slot="description">{g.about}</Text>
          </MenuItem>
        )}
      </Menu>
    </Autocomplete>
  );
}
