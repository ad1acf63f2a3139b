import { queryOptions } from "@tanstack/react-query";
import { api, type Choices } from "./client";

// One factory an endpoint; a page that is left cancels what it asked for.
export const queries = {
  me: () => queryOptions({ queryKey: ["me"], queryFn: ({ signal }) => api.me(signal), retry: false, staleTime: 60_000 }),
  servers: () => queryOptions({ queryKey: ["servers"], queryFn: ({ signal }) => api.servers(signal), refetchInterval: 3000 }),
  server: (name: string) => queryOptions({ queryKey: ["servers", name], queryFn: ({ signal }) => api.server(name, signal), refetchInterval: 3000 }),
  games: () => queryOptions({ queryKey: ["games"], queryFn: ({ signal }) => api.games(signal), staleTime: 60_000 }),
  gameVersions: (game: string) => queryOptions({ queryKey: ["games", game], queryFn: ({ signal }) => api.gameVersions(game, signal) }),
  users: () => queryOptions({ queryKey: ["users"], queryFn: ({ signal }) => api.users(signal) }),
  worlds: () => queryOptions({ queryKey: ["worlds"], queryFn: ({ signal }) => api.worlds(signal) }),
  world: (name: string) => queryOptions({ queryKey: ["worlds", name], queryFn: ({ signal }) => api.world(name, signal) }),
  fit: (world: string, server: string, choices: Choices) =>
    queryOptions({ queryKey: ["fit", world, server, choices], queryFn: ({ signal }) => api.fit(world, server, choices, signal), staleTime: 0 }),
  check: (server: string) => queryOptions({ queryKey: ["fit", "", server], queryFn: ({ signal }) => api.check(server, signal), staleTime: 0 }),
  changeovers: (server?: string) => queryOptions({ queryKey: ["changeovers", server ?? ""], queryFn: ({ signal }) => api.changeovers(server, signal), refetchInterval: 5000 }),
  changeover: (id: number) => queryOptions({ queryKey: ["changeover", id], queryFn: ({ signal }) => api.changeover(id, signal) }),
};
