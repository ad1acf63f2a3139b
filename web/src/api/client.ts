import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Server = Schemas["Server"];
export type ServerFacts = Schemas["ServerFacts"];
export type World = Schemas["World"];
export type Copy = Schemas["Copy"];
export type Arrival = Schemas["Arrival"];
export type Sheet = Schemas["Sheet"];
export type Row = Schemas["FitRow"];
export type Option = Schemas["FitOption"];
export type Changeover = Schemas["Changeover"];
export type Plan = Schemas["Plan"];
export type Proof = Schemas["PlanProof"];
export type Fact = Schemas["Fact"];
export type LogLine = Schemas["ControlLine"];
export type Game = Schemas["Game"];
export type Complaint = Schemas["GameComplaint"];
export type Tried = Schemas["LocalTried"];
export type Proposal = Schemas["SketchProposal"];
export type Setting = Schemas["ServerSetting"];
export type Choices = Record<string, string>;
export type Wish = Schemas["NewChangeover"] & { server: string };
export type Kind = Wish["kind"];
export type Aside = Schemas["Aside"];
export type Landmark = Schemas["Landmark"];
export type Sighting = Schemas["Sighting"];

const client = createClient<paths>({ baseUrl: "/api", fetch: (request) => globalThis.fetch(request) });

/** An answer of the service that says what is wrong and what to do next. */
export class Problem extends Error {
  readonly code: string;
  readonly next: string;
  readonly options: string[];
  readonly status: number;
  constructor(p: Partial<Schemas["Problem"]> | undefined, status: number) {
    super(p?.detail ?? "The service does not answer as it should.");
    this.code = p?.code ?? "unreachable";
    this.next = p?.next ?? "Check that the service runs, and load the page again.";
    this.options = p?.options ?? [];
    this.status = status;
  }
}

type Result<T> = { data?: T; error?: unknown; response: Response };

async function taken<T>(call: Promise<Result<T>>): Promise<T> {
  let got: Result<T>;
  try {
    got = await call;
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new Problem({ detail: "The service cannot be reached." }, 0);
  }
  if (!got.response.ok) throw new Problem(got.error as Partial<Schemas["Problem"]>, got.response.status);
  return got.data as T;
}

export const api = {
  signIn: (name: string, password: string) => taken(client.POST("/v1/sign-in", { body: { name, password, kind: "session" } })),
  signOut: () => taken(client.POST("/v1/sign-out")),
  me: (signal?: AbortSignal) => taken(client.GET("/v1/me", { signal })),
  servers: (signal?: AbortSignal) => taken(client.GET("/v1/servers", { signal })),
  server: (server: string, signal?: AbortSignal) => taken(client.GET("/v1/servers/{server}", { params: { path: { server } }, signal })),
  start: (server: string) => taken(client.POST("/v1/servers/{server}/start", { params: { path: { server } } })),
  stop: (server: string) => taken(client.POST("/v1/servers/{server}/stop", { params: { path: { server } } })),
  addServer: (body: Schemas["NewServer"]) => taken(client.POST("/v1/servers", { body })),
  removeServer: (server: string) => taken(client.DELETE("/v1/servers/{server}", { params: { path: { server } } })),
  games: (signal?: AbortSignal) => taken(client.GET("/v1/games", { signal })),
  gameVersions: (game: string, signal?: AbortSignal) => taken(client.GET("/v1/games/{game}/versions", { params: { path: { game } }, signal })),
  saveGame: (profile: string, override: boolean) => taken(client.POST("/v1/games", { body: { profile, override } })),
  withdrawGame: (game: string) => taken(client.DELETE("/v1/games/{game}", { params: { path: { game } } })),
  lintGame: (profile: string) => taken(client.POST("/v1/games/lint", { body: { profile } })),
  tryGame: (profile: string, world: string, server: string, kind: string) => taken(client.POST("/v1/games/try", { body: { profile, world, server, kind } })),
  sketchGame: (world: string, server: string) => taken(client.POST("/v1/games/sketch", { body: { world, server } })),
  users: (signal?: AbortSignal) => taken(client.GET("/v1/users", { signal })),
  addUser: (name: string, password: string) => taken(client.POST("/v1/users", { body: { name, password } })),
  setPassword: (name: string, password: string) => taken(client.PUT("/v1/users/{name}/password", { params: { path: { name } }, body: { password } })),
  removeUser: (name: string) => taken(client.DELETE("/v1/users/{name}", { params: { path: { name } } })),
  worlds: (search?: string, signal?: AbortSignal) => taken(client.GET("/v1/worlds", { params: { query: { search } }, signal })),
  world: (world: string, signal?: AbortSignal) => taken(client.GET("/v1/worlds/{world}", { params: { path: { world } }, signal })),
  files: (world: string, signal?: AbortSignal) => taken(client.GET("/v1/worlds/{world}/files", { params: { path: { world } }, signal })),
  verify: (world: string) => taken(client.POST("/v1/worlds/{world}/verify", { params: { path: { world } } })),
  sheet: ({ kind, world, server, from, beside, choices }: Wish, signal?: AbortSignal) =>
    taken(client.GET("/v1/fit", { params: { query: { kind: kind as "put", world, server, from, beside, choose: Object.entries(choices ?? {}).map(([k, v]) => `${k}=${v}`) } }, signal })),
  check: (server: string, signal?: AbortSignal) => taken(client.GET("/v1/fit", { params: { query: { server } }, signal })),
  draft: (body: Wish) => taken(client.POST("/v1/changeovers", { body })),
  tick: (id: number, landmark: number, seen: boolean) => taken(client.PUT("/v1/changeovers/{id}/landmarks/{landmark}", { params: { path: { id, landmark } }, body: { seen } })),
  landmarks: (world: string, signal?: AbortSignal) => taken(client.GET("/v1/worlds/{world}/landmarks", { params: { path: { world } }, signal })),
  addLandmark: (world: string, say: string, place: string) => taken(client.POST("/v1/worlds/{world}/landmarks", { params: { path: { world } }, body: { say, place } })),
  removeLandmark: (world: string, landmark: number) => taken(client.DELETE("/v1/worlds/{world}/landmarks/{landmark}", { params: { path: { world, landmark } } })),
  aside: (server: string, signal?: AbortSignal) => taken(client.GET("/v1/servers/{server}/aside", { params: { path: { server } }, signal })),
  tidy: (server: string, changeover: number, confirm: string) => taken(client.DELETE("/v1/servers/{server}/aside/{changeover}", { params: { path: { server, changeover }, query: { confirm } } })),
  draftUndo: (undoes: number) => taken(client.POST("/v1/changeovers", { body: { kind: "undo", undoes } })),
  changeovers: (server?: string, signal?: AbortSignal) => taken(client.GET("/v1/changeovers", { params: { query: { server } }, signal })),
  changeover: (id: number, signal?: AbortSignal) => taken(client.GET("/v1/changeovers/{id}", { params: { path: { id } }, signal })),
  act: (id: number, verb: "start" | "go-on" | "cancel" | "retry" | "settle") =>
    verb === "start"
      ? taken(client.POST("/v1/changeovers/{id}/start", { params: { path: { id } } }))
      : verb === "cancel"
        ? taken(client.POST("/v1/changeovers/{id}/cancel", { params: { path: { id } } }))
        : verb === "go-on"
          ? taken(client.POST("/v1/changeovers/{id}/go-on", { params: { path: { id } } }))
        : verb === "settle"
          ? taken(client.POST("/v1/changeovers/{id}/settle", { params: { path: { id } } }))
          : taken(client.POST("/v1/changeovers/{id}/retry", { params: { path: { id } } })),
};

/** Sends an archive as a stream; fetch cannot tell how far it is, so this asks XMLHttpRequest. */
export function sendWorld(file: File, root: string, onProgress: (sent: number) => void, signal: AbortSignal): Promise<Arrival> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    const query = new URLSearchParams({ name: file.name });
    if (root) query.set("root", root);
    request.open("POST", `/api/v1/worlds?${query}`);
    request.setRequestHeader("Content-Type", file.name.endsWith(".zip") ? "application/zip" : "application/octet-stream");
    request.responseType = "json";
    request.upload.addEventListener("progress", (e) => onProgress(e.loaded));
    request.addEventListener("load", () => (request.status < 400 ? resolve(request.response as Arrival) : reject(new Problem(request.response as Partial<Schemas["Problem"]>, request.status))));
    request.addEventListener("error", () => reject(new Problem({ detail: `Sending ${file.name} was cut off.`, next: "Send it again; nothing half was stored." }, 0)));
    request.addEventListener("abort", () => reject(new DOMException("cancelled", "AbortError")));
    signal.addEventListener("abort", () => request.abort());
    request.send(file);
  });
}

/** Listens to server-sent events of one name until closed; the browser reconnects by itself. */
export function listen<T>(path: string, name: string, see: (value: T) => void): () => void {
  const source = new EventSource(`/api/v1${path}`);
  source.addEventListener(name, (e) => see(JSON.parse((e as MessageEvent<string>).data) as T));
  return () => source.close();
}
