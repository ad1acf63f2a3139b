import type { Server } from "../api/client";

/** Why a server cannot take a world of a game now, before anything of the world is looked at; "" when it could. */
export function whyNot(s: Server, game: string): string {
  if (s.game !== game) return `it runs ${s.game}`;
  if (s.changeover) return `changeover ${s.changeover} holds it`;
  if (s.state === "unreachable") return "its folder cannot be reached now";
  return "";
}

/** All that a person may look for of a server, as one text. */
const told = (s: Server) =>
  [s.name, s.game, s.kind, s.host, s.root, s.state, s.active, s.activeTitle].join(" ").toLowerCase();

/** How the fleet is looked at; it stands in the address. */
export type View = { q?: string; by?: "host" | "game" | "state"; sort?: "state" | "since" };

export const groups = ["host", "game", "state"] as const;
export const sorts = ["state", "since"] as const;
export const viewOf = (s: Record<string, unknown>): View => ({
  q: typeof s["q"] === "string" && s["q"] !== "" ? s["q"] : undefined,
  by: groups.find((g) => g === s["by"]),
  sort: sorts.find((k) => k === s["sort"]),
});

/** The servers of a view, in its order, by group; the group "" is all of them. */
export function inView(all: Server[], view: View): [string, Server[]][] {
  const words = (view.q ?? "").toLowerCase().split(/\s+/).filter(Boolean);
  const found = all.filter((s) => words.every((w) => told(s).includes(w)));
  const { sort, by } = view;
  const sorted = sort
    ? found.toSorted((a, b) =>
        sort === "since" ? (b.since ?? "").localeCompare(a.since ?? "") : a.state.localeCompare(b.state),
      )
    : found;
  const out = new Map<string, Server[]>();
  for (const s of sorted) {
    const group = by ? s[by] : "";
    out.set(group, [...(out.get(group) ?? []), s]);
  }
  return [...out].toSorted(([a], [b]) => a.localeCompare(b));
}
