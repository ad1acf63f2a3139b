/** One file of an archive. */
export interface Entry {
  path: string;
  file: File;
}

const encoder = new TextEncoder();

function field(block: Uint8Array, at: number, text: string) {
  block.set(encoder.encode(text), at);
}

const octal = (n: number, width: number) => n.toString(8).padStart(width - 1, "0") + "\0";

/** A header as POSIX.1-1988 (ustar) lays it out; names and sizes that do not fit stand in a pax header before it. */
function header(name: string, size: number, seconds: number, kind: "0" | "x"): Uint8Array {
  const block = new Uint8Array(512);
  field(block, 0, name);
  field(block, 100, "0000644\0");
  field(block, 108, "0000000\0");
  field(block, 116, "0000000\0");
  field(block, 124, size < 8 ** 11 ? octal(size, 12) : octal(0, 12));
  field(block, 136, octal(Math.max(0, Math.floor(seconds)), 12));
  field(block, 148, "        ");
  field(block, 156, kind);
  field(block, 257, "ustar\u000000");
  field(
    block,
    148,
    `${block
      .reduce((sum, b) => sum + b, 0)
      .toString(8)
      .padStart(6, "0")}\0 `,
  );
  return block;
}

/** A record of a pax header (POSIX.1-2001): its own length in decimal, a blank, key=value and a line break. */
export function record(key: string, value: string): string {
  const rest = encoder.encode(` ${key}=${value}\n`).length;
  let length = rest + String(rest).length;
  length = rest + String(length).length;
  return `${length} ${key}=${value}\n`;
}

const padding = (size: number) => new Uint8Array((512 - (size % 512)) % 512);

/** Packs files without reading them: the browser reads each when its part is sent. */
export function tarOf(entries: Entry[]): Blob {
  const parts: BlobPart[] = [];
  for (const { path, file } of entries) {
    const seconds = file.lastModified / 1000;
    const name = encoder.encode(path);
    let told = "";
    if (name.length > 100 || name.length !== path.length) told += record("path", path);
    if (file.size >= 8 ** 11) told += record("size", String(file.size));
    if (told) {
      const bytes = encoder.encode(told);
      parts.push(header("pax", bytes.length, seconds, "x") as BlobPart, bytes, padding(bytes.length));
    }
    parts.push(
      header(name.length > 100 ? "long" : path, file.size, seconds, "0") as BlobPart,
      file,
      padding(file.size),
    );
  }
  parts.push(new Uint8Array(1024));
  return new Blob(parts);
}
