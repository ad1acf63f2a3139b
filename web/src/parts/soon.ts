import type { Report, Server } from "../api/client";

/** Something that needs nobody yet and soon may. */
export type Soon = { key: string; server: string; tab: string | undefined; says: string };

/** From what part of an allowance on it is told that it is nearly used up. */
const nearly = 0.9;

/** Which of two versions is the older, by their numbers; what is no number counts for nothing. */
export function older(a: string, b: string): boolean {
  const [x, y] = [a, b].map((v) =>
    v
      .split(/[^0-9]+/)
      .filter(Boolean)
      .map(Number),
  );
  for (let i = 0; i < Math.max(x?.length ?? 0, y?.length ?? 0); i++) {
    const [n, m] = [x?.[i] ?? 0, y?.[i] ?? 0];
    if (n !== m) return n < m;
  }
  return false;
}

/** Servers whose version is behind that of another of the same game and kind, and allowances that are nearly used up. */
export function soonOf(
  servers: Server[],
  reports: Report[],
  allowed: Record<string, { bytes?: number }>,
): Soon[] {
  const out: Soon[] = [];
  const newest = new Map<string, Server>();
  for (const s of servers) {
    const best = newest.get(`${s.game} ${s.kind}`);
    if (s.version && (!best?.version || older(best.version, s.version))) newest.set(`${s.game} ${s.kind}`, s);
  }
  for (const s of servers) {
    const best = newest.get(`${s.game} ${s.kind}`);
    if (s.version && best?.version && older(s.version, best.version))
      out.push({
        key: `version ${s.name}`,
        server: s.name,
        tab: "fit",
        says: `has ${s.game} ${s.version}, and ${best.name} has ${best.version}: a world that ${best.name} has opened does not fit it any more.`,
      });
  }
  for (const r of reports) {
    const most = allowed[r.server]?.bytes ?? 0;
    if (most > 0 && r.bytes >= nearly * most)
      out.push({
        key: `allowance ${r.server}`,
        server: r.server,
        tab: "backups",
        says: `has backups of ${Math.round((100 * r.bytes) / most)} % of what they may take; then the oldest go.`,
      });
  }
  return out;
}
