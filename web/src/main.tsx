import "@fontsource-variable/atkinson-hyperlegible-next/wght.css";
import "@fontsource-variable/jetbrains-mono/wght.css";
import {
  QueryCache,
  QueryClient,
  QueryClientProvider,
  useMutation,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import {
  createRootRoute,
  createRoute,
  createRouter,
  lazyRouteComponent,
  Link,
  Outlet,
  RouterProvider,
  useRouterState,
} from "@tanstack/react-router";
import { StrictMode, useEffect } from "react";
import { createRoot } from "react-dom/client";
import styled from "styled-components";
import { api, Problem } from "./api/client";
import { queries } from "./api/queries";
import { stream, takeIn, useLost } from "./api/stream";
import { Alerts } from "./parts/alerts";
import { useArriving } from "./parts/arriving";
import { Button } from "./parts/controls";
import { Page } from "./parts/layout";
import { Palette } from "./parts/palette";
import { viewOf } from "./parts/view";
import { GlobalStyle } from "./theme";

const Bar = styled.header`
  background: var(--sheet);
  border-bottom: 1px solid var(--line);
  & > div {
    max-width: 1240px;
    margin: 0 auto;
    padding: 0.55rem 1.6rem;
    display: flex;
    flex-wrap: wrap;
    gap: 0.3rem 1.6rem;
    align-items: center;
  }
  img {
    width: 24px;
    vertical-align: -5px;
    margin-right: 0.45rem;
  }
  .name {
    font-weight: 700;
    font-size: 1.1rem;
    color: var(--ink);
    text-decoration: none;
  }
  nav {
    display: flex;
    flex-wrap: wrap;
    gap: 0 1.3rem;
    margin-right: auto;
  }
  nav a {
    color: var(--muted);
    text-decoration: none;
    font-weight: 600;
    padding: 0.2rem 0;
    border-bottom: 3px solid transparent;
  }
  nav a[data-status="active"] {
    color: var(--ink);
    border-color: var(--accent);
  }
  @media (forced-colors: active) {
    nav a {
      border-color: Canvas;
    }
    nav a[data-status="active"] {
      border-color: Highlight;
    }
  }
  .who {
    color: var(--muted);
  }
  @media (max-width: 62rem) {
    & > div {
      padding: 0.55rem 1.1rem 0.35rem;
      gap: 0.3rem 0.6rem;
    }
    .name {
      margin-right: auto;
    }
    .who {
      display: none;
    }
    nav {
      order: 1;
      width: 100%;
      flex-wrap: nowrap;
      overflow-x: auto;
      scrollbar-width: thin;
    }
    nav a {
      padding: 0.45rem 0;
    }
  }
`;

function Frame() {
  const path = useRouterState({ select: (s) => s.location.pathname });
  useArriving(path);
  return path === "/sign-in" || (import.meta.env.DEV && path === "/parts") ? <Outlet /> : <SignedIn />;
}

/** Says that nothing new is heard. */
function Unheard() {
  return useLost() && <Quiet>The service is not heard; what is shown may be old.</Quiet>;
}

const Quiet = styled.output`
  display: block;
  background: var(--raised);
  border-bottom: 1px solid var(--line);
  text-align: center;
  padding: 0.3rem;
`;

function SignedIn() {
  const path = useRouterState({ select: (st) => st.location.pathname });
  const me = useQuery(queries.me());
  const client = useQueryClient();
  const known = me.data !== undefined;
  useEffect(() => {
    if (!known) return;
    stream.start();
    return stream.listen((what) => takeIn(client, what));
  }, [known, client]);
  const out = useMutation({
    mutationFn: api.signOut,
    onSuccess: async () => {
      client.clear();
      await router.navigate({ to: "/sign-in" });
    },
  });
  return (
    <>
      <Bar>
        <div>
          <Link
            to="/"
            className="name"
          >
            <img
              src="/mark.svg"
              alt=""
            />
            Reshard
          </Link>
          <nav aria-label="Main">
            <Link
              to="/"
              activeOptions={{ exact: true }}
            >
              Home
            </Link>
            <Link to="/servers">Servers</Link>
            <Link to="/library">Library</Link>
            <Link to="/changeovers">Changeovers</Link>
            <Link to="/backups">Backups</Link>
            <Link to="/games">Games</Link>
            <Link to="/hosts">Hosts</Link>
            <Link to="/users">Users</Link>
          </nav>
          <Palette />
          {me.data && <span className="who">{me.data.name}</span>}
          <Button onPress={() => out.mutate()}>Sign out</Button>
        </div>
      </Bar>
      <Unheard />
      {known && path !== "/backups" && path !== "/" && <Alerts />}
      <Outlet />
    </>
  );
}

function Lost() {
  return (
    <Page>
      <h1>There is no such page</h1>
      <p>
        <Link to="/">Go home</Link>
      </p>
    </Page>
  );
}

// Each page is fetched when it is first gone to, or pointed at.
const page = lazyRouteComponent;

const root = createRootRoute({ component: Frame, notFoundComponent: Lost });
const kinds = ["put", "restore", "clone", "reset", "switch", "rename", "take-away"] as const;
const optional = (v: unknown) => (typeof v === "string" && v !== "" ? v : undefined);
const parts = ["world", "all", "settings", "files"] as const;
const answers = (v: unknown): Record<string, string> | undefined =>
  v && typeof v === "object"
    ? Object.fromEntries(Object.entries(v).filter((e): e is [string, string] => typeof e[1] === "string"))
    : undefined;
const text = (v: unknown) => (typeof v === "string" ? v : "");
const routes = root.addChildren([
  createRoute({
    getParentRoute: () => root,
    path: "/",
    component: page(() => import("./pages/home"), "Home"),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/bring",
    component: page(() => import("./pages/bring"), "Bring"),
    validateSearch: (s: Record<string, unknown>): { world?: string; server?: string } => ({
      world: optional(s["world"]),
      server: optional(s["server"]),
    }),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/sign-in",
    component: page(() => import("./pages/sign-in"), "SignIn"),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/servers",
    component: page(() => import("./pages/servers"), "Servers"),
    validateSearch: viewOf,
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/add-server",
    component: page(() => import("./pages/add-server"), "AddServer"),
    validateSearch: (s: Record<string, unknown>): { world?: string } => ({ world: optional(s["world"]) }),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/games",
    component: page(() => import("./pages/games"), "Games"),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/games/edit",
    component: page(() => import("./pages/edit-game"), "EditGame"),
    validateSearch: (s: Record<string, unknown>) => ({ game: text(s["game"]) }),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/hosts",
    component: page(() => import("./pages/hosts"), "Hosts"),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/users",
    component: page(() => import("./pages/users"), "Users"),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/backups",
    component: page(() => import("./pages/backups"), "Backups"),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/servers/$server",
    component: page(() => import("./pages/server"), "ServerPage"),
    validateSearch: (s: Record<string, unknown>): { tab?: string } => ({ tab: optional(s["tab"]) }),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/library",
    component: page(() => import("./pages/library"), "Library"),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/library/$world",
    component: page(() => import("./pages/world"), "WorldPage"),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/vault",
    component: page(() => import("./pages/vault"), "Vault"),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/compare",
    component: page(() => import("./pages/compare"), "Compare"),
    validateSearch: (s: Record<string, unknown>) => ({ before: text(s["before"]), after: text(s["after"]) }),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/change",
    component: page(() => import("./pages/change"), "Change"),
    validateSearch: (s: Record<string, unknown>) => ({
      kind: kinds.find((k) => k === s["kind"]) ?? "put",
      aside: optional(s["aside"]),
      server: text(s["server"]),
      world: optional(s["world"]),
      from: optional(s["from"]),
      name: optional(s["name"]),
      backup: Number(s["backup"]) || undefined,
      beside: s["beside"] === true || undefined,
      what: parts.find((w) => w === s["what"]),
      files: Array.isArray(s["files"]) ? s["files"].filter((x) => typeof x === "string") : undefined,
      choices: answers(s["choices"]),
    }),
  }),
  // All parts in all states, for those who work on them: not in what is built.
  ...(import.meta.env.DEV
    ? [
        createRoute({
          getParentRoute: () => root,
          path: "/parts",
          component: page(() => import("./pages/parts"), "Parts"),
        }),
      ]
    : []),
  createRoute({
    getParentRoute: () => root,
    path: "/changeovers",
    component: page(() => import("./pages/changeovers"), "Changeovers"),
  }),
  createRoute({
    getParentRoute: () => root,
    path: "/changeovers/$id",
    component: page(() => import("./pages/changeover"), "ChangeoverPage"),
  }),
]);
const router = createRouter({ routeTree: routes, defaultPreload: "intent" });

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}

const client = new QueryClient({
  queryCache: new QueryCache({
    onError: (error) => {
      if (error instanceof Problem && error.status === 401) void router.navigate({ to: "/sign-in" });
    },
  }),
  // A mutation may begin a changeover: it is never sent twice by itself.
  defaultOptions: {
    queries: {
      retry: (n, error) => n < 2 && !(error instanceof Problem && error.status >= 400 && error.status < 500),
    },
    mutations: { retry: false },
  },
});

const at = document.getElementById("root");
if (at) {
  createRoot(at).render(
    <StrictMode>
      <GlobalStyle />
      <QueryClientProvider client={client}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  );
}
