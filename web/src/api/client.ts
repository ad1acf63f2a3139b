import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Server = Schemas["Server"];
export type Slots = Schemas["Slots"];
export type Asks = Schemas["PlanAsks"];
export type ServerFacts = Schemas["ServerFacts"];
export type Host = Schemas["Host"];
export type NewHost = Schemas["NewHost"];
export type World = Schemas["World"];
export type User = Schemas["User"];
export type Copy = Schemas["Copy"];
export type Arrival = Schemas["Arrival"];
export type Sheet = Schemas["Sheet"];
export type Row = Schemas["FitRow"];
export type Option = Schemas["FitOption"];
export type Changeover = Schemas["Changeover"];
export type Plan = Schemas["Plan"];
export type Proof = Schemas["PlanProof"];
export type Fact = Schemas["Fact"];
export type LogLine = Schemas["LogLine"];
export type Game = Schemas["Game"];
export type Complaint = Schemas["DoclangComplaint"];
export type Tried = Schemas["LocalTried"];
export type Proposal = Schemas["SketchProposal"];
export type Setting = Schemas["ServerSetting"];
export type Choices = Record<string, string>;
export type Wish = Schemas["PlanWish"] & { server: string };
export type Kind = Wish["kind"];
export type Aside = Schemas["Aside"];
export type Landmark = Schemas["Landmark"];
export type Sighting = Schemas["Sighting"];
export type Recognised = Schemas["Recognised"];
export type Listing = Schemas["Listing"];
export type Compared = Schemas["Compared"];
export type WorldMap = Schemas["Map"];
export type VaultState = Schemas["Vault"];
export type Backup = Schemas["Backup"];
export type Rule = Schemas["Rule"];
export type RuleWords = Schemas["KeepRule"];
export type RulePreview = Schemas["RulePreview"];
export type Store = Schemas["Store"];
export type StoreDeletion = Schemas["StoreDeletion"];
export type Alert = Schemas["Alert"];
export type Report = Schemas["Report"];
export type NoticeTarget = Schemas["NoticeTarget"];
export type Wanted = NonNullable<paths["/v1/worlds"]["get"]["parameters"]["query"]>;

const client = createClient<paths>({ baseUrl: "/api", fetch: (request) => globalThis.fetch(request) });

/** An answer of the service that says what is wrong and what to do next. */
export class Problem extends Error {
  readonly code: string;
  readonly next: string;
  readonly options: string[];
  readonly labels: string[];
  readonly status: number;
  constructor(p: Partial<Schemas["Problem"]> | undefined, status: number) {
    // Of a field that is wrong it is said which, and how.
    const fields = p?.errors?.map((e) => e.message).join("; ");
    super(fields || (p?.detail ?? "The service does not answer as it should."));
    this.code = p?.code ?? "unreachable";
    this.next = p?.next ?? "Check that the service runs, and load the page again.";
    this.options = p?.options ?? [];
    this.labels = p?.labels ?? [];
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

/** A part of a list, and the cursor at which the next one begins; undefined after the last. */
export type Part<T> = { items: T[]; next: string | undefined };

/** Reads one page of a list; where there is more, the Link header says where (RFC 8288). */
async function part<T>(call: Promise<Result<T[]>>): Promise<Part<T>> {
  let link = "";
  const items = await taken(
    call.then((got) => {
      link = got.response.headers.get("Link") ?? "";
      return got;
    }),
  );
  const next = /<([^>]*)>; *rel="next"/.exec(link)?.[1];
  return {
    items,
    next: next ? (new URL(next, location.href).searchParams.get("after") ?? undefined) : undefined,
  };
}

/** Reads a whole list, page by page. */
async function all<T>(page: (after: string | undefined) => Promise<Result<T[]>>): Promise<T[]> {
  const out: T[] = [];
  for (let after: string | undefined; ;) {
    const { items, next } = await part(page(after));
    out.push(...items);
    if (!next) return out;
    after = next;
  }
}

export const api = {
  signIn: (name: string, password: string) =>
    taken(client.POST("/v1/sign-in", { body: { name, password, kind: "session" } })),
  signOut: () => taken(client.POST("/v1/sign-out")),
  me: (signal?: AbortSignal) => taken(client.GET("/v1/me", { signal })),
  servers: (signal?: AbortSignal) =>
    all((after) => client.GET("/v1/servers", { params: { query: { after, limit: 1000 } }, signal })),
  server: (server: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/servers/{server}", { params: { path: { server } }, signal })),
  start: (server: string) =>
    taken(client.POST("/v1/servers/{server}/start", { params: { path: { server } } })),
  sayStopped: (server: string) =>
    taken(client.POST("/v1/servers/{server}/stopped", { params: { path: { server } } })),
  sayStoppedDespiteSigns: (server: string) =>
    taken(
      client.POST("/v1/servers/{server}/stopped", {
        params: { path: { server } },
        body: { despiteSigns: true },
      }),
    ),
  sayStarted: (server: string) =>
    taken(client.POST("/v1/servers/{server}/started", { params: { path: { server } } })),
  intendWorld: (server: string) =>
    taken(client.POST("/v1/servers/{server}/intended", { params: { path: { server } } })),
  stop: (server: string) => taken(client.POST("/v1/servers/{server}/stop", { params: { path: { server } } })),
  startAnew: (server: string) =>
    taken(
      client.POST("/v1/servers/{server}/start", { params: { path: { server } }, body: { newWorld: true } }),
    ),
  stopUnsaved: (server: string) =>
    taken(
      client.POST("/v1/servers/{server}/stop", { params: { path: { server } }, body: { unsaved: true } }),
    ),
  addServer: (body: Schemas["NewServer"]) => taken(client.POST("/v1/servers", { body })),
  removeServer: (server: string) =>
    taken(client.DELETE("/v1/servers/{server}", { params: { path: { server } } })),
  games: (signal?: AbortSignal) => taken(client.GET("/v1/games", { signal })),
  gameVersions: (game: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/games/{game}/versions", { params: { path: { game } }, signal })),
  saveGame: (profile: string, override: boolean) =>
    taken(client.POST("/v1/games", { body: { profile, override } })),
  withdrawGame: (game: string) => taken(client.DELETE("/v1/games/{game}", { params: { path: { game } } })),
  lintGame: (profile: string) => taken(client.POST("/v1/games/lint", { body: { profile } })),
  tryGame: (profile: string, world: string, server: string, kind: string) =>
    taken(client.POST("/v1/games/try", { body: { profile, world, server, kind } })),
  sketchGame: (world: string, server: string) =>
    taken(client.POST("/v1/games/sketch", { body: { world, server } })),
  hosts: (signal?: AbortSignal) => taken(client.GET("/v1/hosts", { signal })),
  addHost: (body: NewHost) => taken(client.POST("/v1/hosts", { body })),
  changeHost: (host: string, body: Schemas["HostChange"]) =>
    taken(client.PATCH("/v1/hosts/{host}", { params: { path: { host } }, body })),
  setProvider: (host: string, body: Schemas["NewProvider"]) =>
    taken(client.PUT("/v1/hosts/{host}/provider", { params: { path: { host } }, body })),
  tryProvider: (host: string, machine: string) =>
    taken(client.GET("/v1/hosts/{host}/provider/try", { params: { path: { host }, query: { machine } } })),
  checkHost: (host: string) => taken(client.POST("/v1/hosts/{host}/check", { params: { path: { host } } })),
  removeHost: (host: string) => taken(client.DELETE("/v1/hosts/{host}", { params: { path: { host } } })),
  users: (signal?: AbortSignal) => taken(client.GET("/v1/users", { signal })),
  addUser: (name: string, password: string) => taken(client.POST("/v1/users", { body: { name, password } })),
  setPassword: (name: string, password: string, present?: string) =>
    taken(
      client.PUT("/v1/users/{name}/password", { params: { path: { name } }, body: { password, present } }),
    ),
  removeUser: (name: string) => taken(client.DELETE("/v1/users/{name}", { params: { path: { name } } })),
  worlds: (wanted: Wanted, signal?: AbortSignal) =>
    all((after) =>
      client.GET("/v1/worlds", { params: { query: { ...wanted, after, limit: 1000 } }, signal }),
    ),
  worldsPart: (wanted: Wanted, after: string | undefined, signal?: AbortSignal) =>
    part(client.GET("/v1/worlds", { params: { query: { ...wanted, after, limit: 200 } }, signal })),
  changeWorld: (world: string, body: Schemas["ChangeWorld"]) =>
    taken(client.PATCH("/v1/worlds/{world}", { params: { path: { world } }, body })),
  changeCopy: (copy: string, body: Schemas["ChangeCopy"]) =>
    taken(client.PATCH("/v1/copies/{copy}", { params: { path: { copy } }, body })),
  splitCopy: (copy: string) => taken(client.POST("/v1/copies/{copy}/split", { params: { path: { copy } } })),
  joinWorlds: (world: string, into: string) =>
    taken(client.POST("/v1/worlds/{world}/join", { params: { path: { world } }, body: { into } })),
  sayApart: (world: string, from: string) =>
    taken(client.POST("/v1/worlds/{world}/apart", { params: { path: { world } }, body: { from } })),
  lineage: (world: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/worlds/{world}/lineage", { params: { path: { world } }, signal })),
  map: (world: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/worlds/{world}/map", { params: { path: { world } }, signal })),
  compare: (before: string, after: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/compare", { params: { query: { before, after } }, signal })),
  recognise: (body: Listing) => taken(client.POST("/v1/arrivals/recognise", { body })),
  arrivals: (signal?: AbortSignal) => taken(client.GET("/v1/arrivals", { signal })),
  takeArrival: (id: string, root: string, hash: string) =>
    taken(client.POST("/v1/arrivals/{id}/take", { params: { path: { id } }, body: { root, hash } })),
  dropArrival: (id: string) => taken(client.DELETE("/v1/arrivals/{id}", { params: { path: { id } } })),
  vault: (signal?: AbortSignal) => taken(client.GET("/v1/vault", { signal })),
  workOnVault: (kind: "check" | "collect" | "rebuild") =>
    taken(
      kind === "check"
        ? client.POST("/v1/vault/check")
        : kind === "collect"
          ? client.POST("/v1/vault/collect")
          : client.POST("/v1/vault/rebuild"),
    ),
  text: async (world: string, path: string, signal?: AbortSignal) => {
    const answer = await globalThis.fetch(
      `/api/v1/worlds/${encodeURIComponent(world)}/file?${new URLSearchParams({ path }).toString()}`,
      { signal },
    );
    if (!answer.ok) throw new Problem((await answer.json()) as Partial<Schemas["Problem"]>, answer.status);
    return new Uint8Array(await answer.arrayBuffer());
  },
  world: (world: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/worlds/{world}", { params: { path: { world } }, signal })),
  files: (world: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/worlds/{world}/files", { params: { path: { world } }, signal })),
  verify: (world: string) => taken(client.POST("/v1/worlds/{world}/verify", { params: { path: { world } } })),
  sheet: ({ kind, world, server, from, beside, backup, what, files, choices }: Wish, signal?: AbortSignal) =>
    taken(
      client.GET("/v1/fit", {
        params: {
          query: {
            kind: kind as "put",
            world,
            server,
            from,
            beside,
            backup,
            what,
            files: files?.filter(Boolean),
            choose: Object.entries(choices ?? {}).map(([k, v]) => `${k}=${v}`),
          },
        },
        signal,
      }),
    ),
  check: (server: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/fit", { params: { query: { server } }, signal })),
  draft: (body: Wish) =>
    taken(client.POST("/v1/changeovers", { body: { ...body, files: body.files?.filter(Boolean) } })),
  tick: (id: number, landmark: number, seen: boolean) =>
    taken(
      client.PUT("/v1/changeovers/{id}/landmarks/{landmark}", {
        params: { path: { id, landmark } },
        body: { seen },
      }),
    ),
  landmarks: (world: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/worlds/{world}/landmarks", { params: { path: { world } }, signal })),
  addLandmark: (world: string, say: string, place: string) =>
    taken(client.POST("/v1/worlds/{world}/landmarks", { params: { path: { world } }, body: { say, place } })),
  removeLandmark: (world: string, landmark: number) =>
    taken(
      client.DELETE("/v1/worlds/{world}/landmarks/{landmark}", { params: { path: { world, landmark } } }),
    ),
  backups: (query: { server?: string; aside?: boolean; limit?: number }, signal?: AbortSignal) =>
    taken(client.GET("/v1/backups", { params: { query: { limit: 200, ...query } }, signal })),
  makeBackup: (body: Schemas["MakeBackup"]) => taken(client.POST("/v1/backups", { body })),
  changeBackup: (id: number, body: Schemas["ChangeBackup"]) =>
    taken(client.PATCH("/v1/backups/{id}", { params: { path: { id } }, body })),
  report: (signal?: AbortSignal) => taken(client.GET("/v1/backups-report", { signal })),
  alerts: (signal?: AbortSignal) => taken(client.GET("/v1/alerts", { signal })),
  trustClock: () => taken(client.POST("/v1/clock/trust")),
  limits: (signal?: AbortSignal) => taken(client.GET("/v1/backup-limits", { signal })),
  setLimits: (body: Schemas["BackupLimits"]) => taken(client.PUT("/v1/backup-limits", { body })),
  rules: (server: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/rules", { params: { query: { server } }, signal })),
  addRule: (server: string, body: Schemas["NewRule"]) =>
    taken(client.POST("/v1/servers/{server}/rules", { params: { path: { server } }, body })),
  previewRule: (server: string, body: Schemas["PreviewRule"], signal?: AbortSignal) =>
    taken(client.POST("/v1/servers/{server}/rules-preview", { params: { path: { server } }, body, signal })),
  changeRule: (server: string, rule: string, body: Schemas["ChangeRule"]) =>
    taken(client.PATCH("/v1/servers/{server}/rules/{rule}", { params: { path: { server, rule } }, body })),
  runRule: (server: string, rule: string) =>
    taken(client.POST("/v1/servers/{server}/rules/{rule}/run", { params: { path: { server, rule } } })),
  removeRule: (server: string, rule: string) =>
    taken(client.DELETE("/v1/servers/{server}/rules/{rule}", { params: { path: { server, rule } } })),
  stores: (signal?: AbortSignal) => taken(client.GET("/v1/stores", { signal })),
  addStore: (body: Schemas["NewStore"]) => taken(client.POST("/v1/stores", { body })),
  checkStore: (store: string) =>
    taken(client.POST("/v1/stores/{store}/check", { params: { path: { store } } })),
  store: (store: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/stores/{store}", { params: { path: { store } }, signal })),
  storeHolder: (store: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/stores/{store}/holder", { params: { path: { store } }, signal })),
  takeStoreOver: (store: string, mark: string) =>
    taken(client.POST("/v1/stores/{store}/take-over", { params: { path: { store } }, body: { mark } })),
  tidyStore: (store: string, packs: string[]) =>
    taken(client.POST("/v1/stores/{store}/tidy", { params: { path: { store } }, body: { packs } })),
  confirmStore: (store: string) =>
    taken(client.POST("/v1/stores/{store}/confirm", { params: { path: { store } } })),
  removeStore: (store: string) => taken(client.DELETE("/v1/stores/{store}", { params: { path: { store } } })),
  storeKeys: (signal?: AbortSignal) => taken(client.GET("/v1/store-keys", { signal })),
  rotateKey: () => taken(client.POST("/v1/store-keys")),
  recover: (store: string) =>
    taken(client.POST("/v1/vault/recover/{store}", { params: { path: { store } } })),
  targets: (signal?: AbortSignal) => taken(client.GET("/v1/notice-targets", { signal })),
  addTarget: (body: Schemas["NewNoticeTarget"]) => taken(client.POST("/v1/notice-targets", { body })),
  tryTarget: (target: string) =>
    taken(client.POST("/v1/notice-targets/{target}/try", { params: { path: { target } } })),
  removeTarget: (target: string) =>
    taken(client.DELETE("/v1/notice-targets/{target}", { params: { path: { target } } })),
  slots: (server: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/servers/{server}/slots", { params: { path: { server } }, signal })),
  makeSlot: (server: string) =>
    taken(client.POST("/v1/servers/{server}/slots", { params: { path: { server } } })),
  removeSlot: (server: string, backup: string) =>
    taken(client.DELETE("/v1/servers/{server}/slots/{backup}", { params: { path: { server, backup } } })),
  keepAside: (server: string, folder: string) =>
    taken(client.POST("/v1/servers/{server}/aside/{folder}/keep", { params: { path: { server, folder } } })),
  aside: (server: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/servers/{server}/aside", { params: { path: { server } }, signal })),
  tidy: (server: string, changeover: string, confirm: string) =>
    taken(
      client.DELETE("/v1/servers/{server}/aside/{changeover}", {
        params: { path: { server, changeover }, query: { confirm } },
      }),
    ),
  draftUndo: (undoes: number) => taken(client.POST("/v1/changeovers", { body: { kind: "undo", undoes } })),
  /** The newest changeovers; more of them come page by page, from the address of the last. */
  changeovers: (server?: string, signal?: AbortSignal) =>
    taken(client.GET("/v1/changeovers", { params: { query: { server, limit: 200 } }, signal })),
  changeover: (id: number, signal?: AbortSignal) =>
    taken(client.GET("/v1/changeovers/{id}", { params: { path: { id } }, signal })),
  act: (id: number, verb: "start" | "go-on" | "cancel" | "leave" | "retry" | "settle") =>
    verb === "start"
      ? taken(client.POST("/v1/changeovers/{id}/start", { params: { path: { id } } }))
      : verb === "cancel"
        ? taken(client.POST("/v1/changeovers/{id}/cancel", { params: { path: { id } } }))
        : verb === "leave"
          ? taken(client.POST("/v1/changeovers/{id}/leave", { params: { path: { id } } }))
          : verb === "go-on"
            ? taken(client.POST("/v1/changeovers/{id}/go-on", { params: { path: { id } } }))
            : verb === "settle"
              ? taken(client.POST("/v1/changeovers/{id}/settle", { params: { path: { id } } }))
              : taken(client.POST("/v1/changeovers/{id}/retry", { params: { path: { id } } })),
};
