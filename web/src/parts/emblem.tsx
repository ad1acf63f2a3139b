/**
 * A picture of a world that has none: a shield of fields, drawn from its name alone, so that the same world looks the
 * same everywhere and two worlds hardly ever alike. Its left and right are alike, as people remember such best.
 */
export function Emblem({ of, size }: { of: string; size: number }) {
  const e = emblemOf(of);
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 8 8"
      aria-hidden="true"
      data-emblem={of}
      style={{ flex: "none", borderRadius: 6, border: "1px solid var(--line-strong)" }}
      shapeRendering="crispEdges"
    >
      <rect
        width="8"
        height="8"
        fill={e.ground}
      />
      <path
        d={squares(e.fields, false)}
        fill={e.first}
      />
      <path
        d={squares(e.fields, true)}
        fill={e.second}
      />
    </svg>
  );
}

/** The fields of one colour as one path: an element a colour, not one a field. */
const squares = (fields: [number, number, boolean][], second: boolean) =>
  fields.map(([x, y, of]) => (of === second ? `M${x} ${y}h1v1h-1z` : "")).join("");

/** What an emblem of a name is made of: colours, and fields of a grid of 8 by 8 with which of two colours each has. */
export function emblemOf(name: string): {
  ground: string;
  first: string;
  second: string;
  fields: [number, number, boolean][];
} {
  const next = numbersOf(name);
  const hue = Math.floor(next() * 360);
  const away = 40 + Math.floor(next() * 100);
  const fields: [number, number, boolean][] = [];
  for (let y = 1; y < 7; y++)
    for (let x = 1; x < 4; x++) {
      const kind = next();
      if (kind < 0.42) continue;
      fields.push([x, y, kind > 0.78], [7 - x, y, kind > 0.78]);
    }
  return {
    ground: `hsl(${hue} 28% 84%)`,
    first: `hsl(${hue} 38% 36%)`,
    second: `hsl(${(hue + away) % 360} 46% 48%)`,
    fields,
  };
}

/** Numbers from 0 to 1 that a text alone decides (FNV-1a, then xorshift). */
function numbersOf(text: string): () => number {
  let state = 0x811c9dc5;
  for (const c of text) state = Math.imul(state ^ (c.codePointAt(0) ?? 0), 0x01000193) >>> 0;
  state ||= 1;
  const step = () => {
    state ^= state << 13;
    state ^= state >>> 17;
    state ^= state << 5;
    state >>>= 0;
    return state / 2 ** 32;
  };
  for (let i = 0; i < 8; i++) step();
  return step;
}
