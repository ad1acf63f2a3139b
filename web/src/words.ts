/** Sizes in binary units, as the command line writes them. */
export function bytes(n: number): string {
  if (n < 0) return "unknown";
  const units = ["B", "KiB", "MiB", "GiB", "TiB"];
  let i = 0;
  let v = n;
  while (v >= 1024 && i < units.length - 1) {
    v /= 1024;
    i++;
  }
  return `${i === 0 || v >= 10 ? Math.round(v) : v.toFixed(1)} ${units[i]}`;
}

export function millis(ms: number): string {
  if (ms < 0) return "not measured yet";
  return ms < 1000 ? `${Math.round(ms)} ms` : `${(ms / 1000).toFixed(1)} s`;
}

/** How the browser writes numbers and times; the words around them are English. */
const tongue = typeof navigator === "undefined" ? "en-GB" : navigator.language;
const dateTime = new Intl.DateTimeFormat(tongue, { dateStyle: "medium", timeStyle: "short" });
const relative = new Intl.RelativeTimeFormat("en", { numeric: "auto" });
const spans: [Intl.RelativeTimeFormatUnit, number][] = [
  ["year", 365 * 86_400],
  ["month", 30 * 86_400],
  ["day", 86_400],
  ["hour", 3600],
  ["minute", 60],
];

/** How long before now a moment was (or after), in one unit. Both are milliseconds since 1970. */
export function ago(at: number, now: number): string {
  const seconds = (at - now) / 1000;
  const [unit, length] = spans.find(([, s]) => Math.abs(seconds) >= s) ?? ["second", 1];
  if (unit === "second") return "just now";
  return relative.format(Math.round(seconds / length), unit);
}

export function when(iso: string | undefined): string {
  if (!iso || iso.startsWith("0001-")) return "unknown";
  return dateTime.format(new Date(iso));
}

/** The day of a moment where the reader is, as YYYY-MM-DD: Swedish writes it so. */
export const dayOf = (iso: string) => new Date(iso).toLocaleDateString("sv");

const shortDay = new Intl.DateTimeFormat(tongue, { day: "numeric", month: "short" });
const shortTime = new Intl.DateTimeFormat(tongue, { hour: "numeric", minute: "2-digit" });
const shortMonth = new Intl.DateTimeFormat(tongue, { month: "short", year: "numeric" });

/** A moment as a mark of a scale that spans so many milliseconds: a time, a day or a month. */
export function day(at: number, span: number): string {
  const days = span / 86_400_000;
  return (days < 2 ? shortTime : days < 400 ? shortDay : shortMonth).format(at);
}

export function count(n: number, one: string, many: string): string {
  return n === 1 ? `1 ${one}` : `${n.toLocaleString(tongue)} ${many}`;
}

/** A file's name as it can be shown: bytes that are no text, and characters that are not seen, are escaped. */
export function shownName(name: string): string {
  return [...name]
    .map((c) => {
      const code = c.codePointAt(0) ?? 0;
      if (code >= 0x10ff80 && code <= 0x10ffff) return `\\x${(code - 0x10ff00).toString(16)}`;
      if (code < 0x20 || (code >= 0x7f && code < 0xa0)) return `\\x${code.toString(16).padStart(2, "0")}`;
      return c === "\\" ? "\\\\" : c;
    })
    .join("");
}

/** The first of some names, and how many more there are; "" for none. */
export function someOf(names: string[], total: number): string {
  const shown = names.slice(0, 20);
  const more = Math.max(total, names.length) - shown.length;
  return shown.join(", ") + (more > 0 ? ` and ${count(more, "other", "others")}` : "");
}

/** Splits a command into words as a shell does: at blanks, but not within quotes. */
export function splitCommand(text: string): string[] {
  const words = text.match(/(?:[^\s"']|"[^"]*"|'[^']*')+/g) ?? [];
  return words.map((w) =>
    w.replaceAll(/"([^"]*)"|'([^']*)'/g, (_, a: string | undefined, b: string | undefined) => a ?? b ?? ""),
  );
}

/** A name between quotes, so that blanks at its ends can be seen. */
export const quoted = (s: string) => `“${s}”`;

/** A few words as a heading. */
export const sentence = (words: string) => words.charAt(0).toUpperCase() + words.slice(1);
