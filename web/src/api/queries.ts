import { infiniteQueryOptions, type QueryClient, queryOptions } from "@tanstack/react-query";
import { api, type RuleWords, type Server, type ServerFacts, type Wanted, type Wish } from "./client";

// How often is asked for what the stream tells, should the stream be cut off somewhere on the way.
const beside = 30_000;

/** What the stream has told of a server last. */
export const toldKey = (server: string) => ["told", server] as const;

/**
 * What the stream has told while a server was asked for is newer than the answer, which may have taken seconds:
 * of the server itself, what was seen last counts.
 */
function seenLast(client: QueryClient, came: ServerFacts): ServerFacts {
  const told = client.getQueryData<Server>(toldKey(came.server.name));
  const older =
    told?.seenAt && came.server.seenAt && Date.parse(came.server.seenAt) < Date.parse(told.seenAt);
  return older ? { ...came, server: told } : came;
}

// One factory an endpoint; a page that is left cancels what it asked for.
export const queries = {
  me: () =>
    queryOptions({
      queryKey: ["me"],
      queryFn: ({ signal }) => api.me(signal),
      retry: false,
      staleTime: 60_000,
    }),
  servers: () =>
    queryOptions({
      queryKey: ["servers"],
      queryFn: ({ signal }) => api.servers(signal),
      refetchInterval: beside,
    }),
  server: (name: string) =>
    queryOptions({
      queryKey: ["servers", name],
      queryFn: async ({ signal, client }) => seenLast(client, await api.server(name, signal)),
      refetchInterval: beside,
    }),
  games: () =>
    queryOptions({ queryKey: ["games"], queryFn: ({ signal }) => api.games(signal), staleTime: 60_000 }),
  gameVersions: (game: string) =>
    queryOptions({ queryKey: ["games", game], queryFn: ({ signal }) => api.gameVersions(game, signal) }),
  hosts: () => queryOptions({ queryKey: ["hosts"], queryFn: ({ signal }) => api.hosts(signal) }),
  users: () => queryOptions({ queryKey: ["users"], queryFn: ({ signal }) => api.users(signal) }),
  worlds: (wanted: Wanted = {}) =>
    queryOptions({
      queryKey: ["worlds", "all", wanted],
      queryFn: ({ signal }) => api.worlds(wanted, signal),
    }),
  /** The library as it is scrolled through: a part after the other. */
  worldsScrolled: (wanted: Wanted) =>
    infiniteQueryOptions({
      queryKey: ["worlds", "scrolled", wanted],
      queryFn: ({ pageParam, signal }) => api.worldsPart(wanted, pageParam, signal),
      initialPageParam: undefined as string | undefined,
      getNextPageParam: (last) => last.next,
    }),
  lineage: (world: string) =>
    queryOptions({
      queryKey: ["worlds", world, "lineage"],
      queryFn: ({ signal }) => api.lineage(world, signal),
    }),
  map: (copy: string) =>
    queryOptions({ queryKey: ["map", copy], queryFn: ({ signal }) => api.map(copy, signal), retry: false }),
  compare: (before: string, after: string) =>
    queryOptions({
      queryKey: ["compare", before, after],
      queryFn: ({ signal }) => api.compare(before, after, signal),
      staleTime: Infinity,
    }),
  arrivals: () =>
    queryOptions({
      queryKey: ["arrivals"],
      queryFn: ({ signal }) => api.arrivals(signal),
      refetchInterval: beside,
    }),
  vault: () =>
    queryOptions({
      queryKey: ["vault"],
      queryFn: ({ signal }) => api.vault(signal),
      refetchInterval: (q) => (q.state.data?.work && !q.state.data.work.ended ? 1000 : 10_000),
    }),
  world: (name: string) =>
    queryOptions({ queryKey: ["worlds", name], queryFn: ({ signal }) => api.world(name, signal) }),
  sheet: (wish: Wish) =>
    queryOptions({ queryKey: ["fit", wish], queryFn: ({ signal }) => api.sheet(wish, signal), staleTime: 0 }),
  /** A plan for what is wanted; it is made anew for each wish, and never by itself. */
  draft: (wish: Wish) =>
    queryOptions({
      queryKey: ["draft", wish],
      queryFn: () => api.draft(wish),
      staleTime: Infinity,
      gcTime: 0,
      retry: false,
      refetchOnWindowFocus: false,
      refetchOnReconnect: false,
    }),
  files: (world: string) =>
    queryOptions({
      queryKey: ["files", world],
      queryFn: ({ signal }) => api.files(world, signal),
      staleTime: Infinity,
    }),
  landmarks: (world: string) =>
    queryOptions({ queryKey: ["landmarks", world], queryFn: ({ signal }) => api.landmarks(world, signal) }),
  slots: (server: string) =>
    queryOptions({
      queryKey: ["slots", server],
      queryFn: ({ signal }) => api.slots(server, signal),
      retry: false,
    }),
  backups: (server: string, aside = false) =>
    queryOptions({
      queryKey: ["backups", server, aside],
      queryFn: ({ signal }) => api.backups({ server, aside }, signal),
      refetchInterval: beside,
    }),
  rules: (server: string) =>
    queryOptions({
      queryKey: ["rules", server],
      queryFn: ({ signal }) => api.rules(server, signal),
      refetchInterval: beside,
    }),
  preview: (server: string, body: { rule: RuleWords; name?: string }) =>
    queryOptions({
      queryKey: ["rules", server, "preview", body],
      queryFn: ({ signal }) => api.previewRule(server, body, signal),
      retry: false,
    }),
  report: () =>
    queryOptions({
      queryKey: ["report"],
      queryFn: ({ signal }) => api.report(signal),
      refetchInterval: beside,
    }),
  alerts: () =>
    queryOptions({
      queryKey: ["alerts"],
      queryFn: ({ signal }) => api.alerts(signal),
      refetchInterval: beside,
    }),
  limits: () => queryOptions({ queryKey: ["limits"], queryFn: ({ signal }) => api.limits(signal) }),
  stores: () =>
    queryOptions({
      queryKey: ["stores"],
      queryFn: ({ signal }) => api.stores(signal),
      refetchInterval: 5_000,
    }),
  store: (name: string) =>
    queryOptions({ queryKey: ["stores", name], queryFn: ({ signal }) => api.store(name, signal) }),
  storeHolder: (name: string) =>
    queryOptions({
      queryKey: ["stores", name, "holder"],
      queryFn: ({ signal }) => api.storeHolder(name, signal),
      gcTime: 0, // what is confirmed is what stands there now
    }),
  storeKeys: () => queryOptions({ queryKey: ["store-keys"], queryFn: ({ signal }) => api.storeKeys(signal) }),
  targets: () => queryOptions({ queryKey: ["targets"], queryFn: ({ signal }) => api.targets(signal) }),
  aside: (server: string) =>
    queryOptions({ queryKey: ["aside", server], queryFn: ({ signal }) => api.aside(server, signal) }),
  check: (server: string) =>
    queryOptions({
      queryKey: ["fit", "", server],
      queryFn: ({ signal }) => api.check(server, signal),
      staleTime: 0,
    }),
  changeovers: (server?: string) =>
    queryOptions({
      queryKey: ["changeovers", server ?? ""],
      queryFn: ({ signal }) => api.changeovers(server, signal),
      refetchInterval: beside,
    }),
  changeover: (id: number) =>
    queryOptions({
      queryKey: ["changeover", id],
      queryFn: ({ signal }) => api.changeover(id, signal),
      refetchInterval: beside,
    }),
};
