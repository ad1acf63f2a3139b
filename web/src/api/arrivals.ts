import { api, Problem, type Arrival, type Recognised } from "./client";
import { tarOf, type Entry } from "./tar";

/** A problem in a tus answer, when there is one. */
function problemIn(error: unknown): Problem | undefined {
  const response = (error as { originalResponse?: { getBody(): string; getStatus(): number } | null })
    .originalResponse;
  if (!response) return undefined;
  try {
    return new Problem(
      JSON.parse(response.getBody()) as ConstructorParameters<typeof Problem>[0],
      response.getStatus(),
    );
  } catch {
    return undefined;
  }
}

/**
 * Sends a file or an archive by the tus protocol and gives the upload's id. A broken connection is tried again for some
 * minutes; a file whose sending was cut off in this browser goes on where it was.
 */
export async function upload(
  blob: Blob,
  name: string,
  resume: string,
  onProgress: (sent: number) => void,
  signal: AbortSignal,
): Promise<string> {
  const { Upload } = await import("tus-js-client");
  return new Promise((resolve, reject) => {
    const sending = new Upload(blob, {
      endpoint: "/api/v1/uploads/",
      metadata: { name },
      chunkSize: 64 * 1024 * 1024,
      retryDelays: [500, 1000, 2000, 5000, 10_000, 20_000, 30_000, 60_000, 60_000],
      storeFingerprintForResuming: resume !== "",
      removeFingerprintOnSuccess: true,
      fingerprint: () => Promise.resolve(resume),
      onProgress: (sent) => onProgress(sent),
      onShouldRetry: (error) => {
        const s = problemIn(error)?.status ?? 0;
        return s === 0 || s >= 500;
      },
      onError: (error) =>
        reject(
          problemIn(error) ??
            new Problem(
              {
                detail: `Sending ${name} was cut off.`,
                next: "Choose the same file again: it goes on where it was.",
              },
              0,
            ),
        ),
      onSuccess: () => resolve(sending.url?.slice(-32) ?? ""),
    });
    signal.addEventListener("abort", () => {
      void sending.abort();
      reject(new DOMException("cancelled", "AbortError"));
    });
    const start = async () => {
      if (resume) {
        const [before] = await sending.findPreviousUploads();
        if (before) sending.resumeFromPreviousUpload(before);
      }
      sending.start();
    };
    void start();
  });
}

const piece = 4 * 1024 * 1024;
const hex = (b: ArrayBuffer) => [...new Uint8Array(b)].map((v) => v.toString(16).padStart(2, "0")).join("");

/** The SHA-256 over the SHA-256s of every 4 MiB; "" where the browser does not hash (a page without TLS). */
export async function hashOf(blob: Blob, signal: AbortSignal): Promise<string> {
  if (!globalThis.crypto?.subtle) return "";
  const sums = new Uint8Array(32 * Math.ceil(blob.size / piece));
  for (let at = 0, n = 0; at < blob.size; at += piece, n++) {
    signal.throwIfAborted();
    sums.set(
      new Uint8Array(await crypto.subtle.digest("SHA-256", await blob.slice(at, at + piece).arrayBuffer())),
      32 * n,
    );
  }
  return `sha256-4m:${hex(await crypto.subtle.digest("SHA-256", sums))}`;
}

/** Sends an archive and has it stored. The hash is worked out while it is being sent. */
export async function sendWorld(
  blob: Blob,
  name: string,
  root: string,
  resume: string,
  onProgress: (sent: number) => void,
  signal: AbortSignal,
): Promise<{ id: string; arrival: Promise<Arrival> }> {
  const hash = hashOf(blob, signal);
  hash.catch(() => undefined); // the upload tells of a cancellation
  const id = await upload(blob, name, resume, onProgress, signal);
  return { id, arrival: hash.then((sum) => api.takeArrival(id, root, sum)) };
}

async function begin(file: File, bytes: number): Promise<string> {
  const data = new Uint8Array(await file.slice(0, bytes).arrayBuffer());
  let text = "";
  for (let i = 0; i < data.length; i += 0x8000) text += String.fromCharCode(...data.subarray(i, i + 0x8000));
  return btoa(text);
}

/**
 * Has worlds recognised in a folder: names, sizes and dates go first, then only what the service asks for of the few
 * files that tell what a world is.
 */
export async function recognise(
  name: string,
  entries: Entry[],
  onRound: (asked: number) => void,
): Promise<Recognised> {
  const files = entries.map((e) => ({
    path: e.path,
    size: e.file.size,
    modified: new Date(e.file.lastModified).toISOString(),
    begin: undefined as string | undefined,
  }));
  const at = new Map(entries.map((e, i) => [e.path, i]));
  for (let round = 0; ; round++) {
    const got = await api.recognise({ name, files });
    if (got.needs.length === 0 || round === 6) return got;
    onRound(got.needs.length);
    for (const need of got.needs) {
      const i = at.get(need.path);
      const file = i === undefined ? undefined : files[i];
      if (file && i !== undefined) file.begin = await begin(entries[i]!.file, need.bytes);
    }
  }
}

/** Of a file that is left behind only a glance goes along, so that the service tells of it, too. */
function glance({ path, file }: Entry): Entry {
  return { path, file: new File([file.slice(0, 4096)], file.name, { lastModified: file.lastModified }) };
}

/** The files of one world of a folder, with its realms beside it, as an archive. */
export function archiveOf(world: Recognised["worlds"][number], entries: Entry[]): Blob {
  const root = world.world.root === "." ? "" : `${world.world.root}/`;
  const members = new Set((world.world.members ?? []).map((m) => root + m));
  const leftOut = new Set((world.world.leftOut ?? []).map((m) => root + m));
  const within = (path: string) => world.folders.some((f) => f === "." || path.startsWith(`${f}/`));
  return tarOf([
    ...entries.filter((e) => members.has(e.path) || within(e.path)),
    ...entries.filter((e) => leftOut.has(e.path)).map(glance),
  ]);
}

/** An address for a picture that came as base64. */
export function pictureAddress(base64: string): string {
  return URL.createObjectURL(
    new Blob([Uint8Array.from(atob(base64), (c) => c.codePointAt(0) ?? 0)], { type: "image/png" }),
  );
}
