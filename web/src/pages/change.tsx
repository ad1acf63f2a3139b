import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { Radio, RadioGroup } from "react-aria-components";
import styled from "styled-components";
import { api, type Changeover, type Choices, type Kind, type Sheet, type Wish } from "../api/client";
import { queries } from "../api/queries";
import { Choice } from "../parts/choice";
import { Button, Switch } from "../parts/controls";
import { Field } from "../parts/form";
import {
  copyPicture,
  Crumb,
  Failure,
  Head,
  Loading,
  Muted,
  Page,
  Panel,
  Picture,
  serverPicture,
} from "../parts/layout";
import { Mark } from "../parts/marks";
import { Since } from "../parts/moment";
import { PlanView } from "../parts/plan";
import { FitSheet } from "../parts/sheet";
import { bytes, count, quoted } from "../words";

const Decide = styled.div`
  position: sticky;
  bottom: 0;
  background: var(--raised);
  border: 1px solid var(--line-strong);
  border-radius: 7px;
  padding: 0.75rem 1.1rem;
  display: flex;
  flex-wrap: wrap;
  gap: 1rem;
  align-items: center;
  box-shadow: 0 -2px 10px rgb(0 0 0 / 7%);
  p {
    margin-right: auto;
  }
  @media (max-width: 46rem) {
    flex-wrap: wrap;
    gap: 0.5rem;
    p {
      flex: 1 0 100%;
    }
    button {
      flex: 1;
      white-space: normal;
    }
  }
`;

const Ask = styled.div`
  display: flex;
  gap: 1.2rem 2rem;
  flex-wrap: wrap;
  align-items: flex-start;
  & > * {
    min-width: 15rem;
  }
`;

const Ways = styled(RadioGroup)`
  display: grid;
  gap: 0.35rem;
  .label {
    font-weight: 600;
    font-size: 0.9rem;
  }
`;

const Way = styled(Radio)`
  display: grid;
  grid-template-columns: 1.1rem auto;
  gap: 0.5rem;
  align-items: baseline;
  cursor: pointer;
  &::before {
    content: "";
    width: 0.8rem;
    height: 0.8rem;
    border: 2px solid var(--line-strong);
    border-radius: 50%;
    align-self: center;
  }
  &[data-selected]::before {
    border-color: var(--accent);
    background: radial-gradient(var(--accent) 45%, transparent 50%);
  }
  &[data-focus-visible] {
    outline: 2px solid var(--focus);
    outline-offset: 2px;
    border-radius: 4px;
  }
  small {
    color: var(--muted);
  }
`;

const verdictWords: Record<string, string> = {
  fits: "It fits as it is.",
  adjust: "It fits with the changes above. Nothing is touched until you carry it out.",
  choose: "Answer the questions above first.",
  blocks: "It does not fit as things are. Nothing has been changed.",
};

const titles: Record<Kind, (w: Wish) => React.ReactNode> = {
  put: (w) => (
    <>
      Put <b>{w.world}</b> onto <b>{w.server}</b>
    </>
  ),
  restore: (w) =>
    w.backup ? (
      <>
        Go back to backup <b>{w.backup}</b> on <b>{w.server}</b>
      </>
    ) : (
      <>
        Restore copy <b>{w.world?.slice(0, 12)}</b> onto <b>{w.server}</b>
      </>
    ),
  clone: (w) => (
    <>
      Clone the world of <b>{w.from}</b> onto <b>{w.server}</b>
    </>
  ),
  reset: (w) => (
    <>
      A new world on <b>{w.server}</b>
    </>
  ),
  switch: (w) => (
    <>
      Switch <b>{w.server}</b> to <b>{w.world}</b>
    </>
  ),
  rename: (w) => (
    <>
      Rename the world of <b>{w.server}</b>
    </>
  ),
  "take-away": (w) => (
    <>
      Take away <b>{w.world}</b> from <b>{w.server}</b>
    </>
  ),
  undo: () => <>Undo</>,
};

const lead: Partial<Record<Kind, string>> = {
  reset:
    "The old world is never deleted: under the same name it is set aside, under another it stays where it is.",
  rename:
    "The folder or files, the realms beside them and every setting that names the world change together. " +
    "The title stays.",
  clone:
    "The world is copied into the library first; the server that it comes from goes on running " +
    "where its game allows it.",
  "take-away":
    "The world is copied into the library, from where you can download it to play it alone. " +
    "Nothing changes on the server.",
};

type Chosen = { choices: Choices; choose: (key: string, value: string) => void };

function SafetyCopy({ choices, choose }: Chosen) {
  return (
    <Switch
      isSelected={choices["safety-copy"] === "library"}
      onChange={(on) => choose("safety-copy", on ? "library" : "")}
    >
      First copy the world that it replaces into the library
    </Switch>
  );
}

/** What of a backup comes back, and onto which server. */
function PartOf({ wish, onChange }: { wish: Wish; onChange: (w: Wish) => void }) {
  const servers = useQuery(queries.servers());
  const what = wish.what ?? "world";
  return (
    <>
      <Ways
        aria-label="What comes back"
        value={what}
        onChange={(v) =>
          onChange({
            ...wish,
            what: v as Wish["what"],
            files: v === "files" ? (wish.files ?? []) : undefined,
          })
        }
      >
        <span className="label">What comes back</span>
        <Way value="world">
          <span>
            its world <small>the settings stay as they are</small>
          </span>
        </Way>
        <Way value="all">
          <span>its world and its settings</span>
        </Way>
        <Way value="settings">
          <span>
            its settings <small>the world stays as it is</small>
          </span>
        </Way>
        <Way value="files">
          <span>some files of its world</span>
        </Way>
      </Ways>
      {what === "files" && (
        <Field
          label="Which files"
          hint="From the world’s folder, with blanks between: folk/*.json"
          value={(wish.files ?? []).join(" ")}
          onChange={(v) => onChange({ ...wish, files: v.split(" ") })}
        />
      )}
      <Choice
        label="Onto"
        all={wish.server}
        options={servers.data?.map((s) => s.name).filter((n) => n !== wish.server) ?? []}
        value=""
        onChange={(server) => server && onChange({ ...wish, server })}
      />
    </>
  );
}

/** The form of what a changeover leaves to a person, beside the rows of its sheet. */
function Wanted({ wish, onChange }: { wish: Wish; onChange: (w: Wish) => void }) {
  const choices = wish.choices ?? {};
  const choose = (key: string, value: string) => {
    const next: Choices = { ...choices, [key]: value };
    if (value === "") delete next[key];
    onChange({ ...wish, choices: next });
  };
  const [own, setOwn] = useState("");
  if (wish.kind === "rename") {
    return (
      <Field
        label="New name on disk"
        hint="exactly as it shall stand there"
        value={wish.world ?? ""}
        onChange={(world) => onChange({ ...wish, world })}
      />
    );
  }
  if (wish.kind === "reset") {
    const seed = choices.seed ?? "";
    const picked = seed === "" || seed === "random" || seed === "same" || seed === "as-set" ? seed : "own";
    return (
      <Ask>
        <Field
          label="Name on disk"
          hint="left empty: the old world's name, and the old world is set aside"
          value={choices["folder-name"] ?? ""}
          onChange={(v) => choose("folder-name", v)}
        />
        <Ways
          aria-label="Seed"
          value={picked}
          onChange={(v) => choose("seed", v === "own" ? own || "0" : v)}
        >
          <span className="label">Seed</span>
          <Way value="random">
            <span>
              a random one <small>new ground, and the proof knows the seed</small>
            </span>
          </Way>
          <Way value="same">
            <span>
              the old world's again <small>the same ground, without what was built</small>
            </span>
          </Way>
          <Way value="as-set">
            <span>what the settings hold</span>
          </Way>
          <Way value="own">
            <span>my own</span>
          </Way>
        </Ways>
        <SafetyCopy
          choices={choices}
          choose={choose}
        />
        {picked === "own" && (
          <Field
            label="My seed"
            hint="a number, also negative or large, or words where the game takes them"
            value={seed}
            onChange={(v) => {
              setOwn(v);
              choose("seed", v);
            }}
          />
        )}
      </Ask>
    );
  }
  if (wish.kind === "put" || wish.kind === "restore" || wish.kind === "clone") {
    return (
      <Ask>
        {wish.backup && (
          <PartOf
            wish={wish}
            onChange={onChange}
          />
        )}
        <Switch
          isSelected={wish.beside ?? false}
          onChange={(beside) => onChange({ ...wish, beside })}
        >
          Only place it beside the active world
        </Switch>
        <Field
          label="Title"
          hint="left empty: the world keeps its title"
          value={choices.title ?? ""}
          onChange={(v) => choose("title", v)}
        />
        <Switch
          isSelected={choices.comparison === "sample"}
          onChange={(on) => choose("comparison", on ? "sample" : "")}
        >
          Compare a sample only, and know by size and time what was staged before
        </Switch>
        <Switch
          isSelected={choices.comparison === "whole"}
          onChange={(on) => choose("comparison", on ? "whole" : "")}
        >
          Read every file back, also where a sample is compared by itself (FTP)
        </Switch>
        {!wish.beside && (
          <SafetyCopy
            choices={choices}
            choose={choose}
          />
        )}
        {!wish.beside && (
          <Switch
            isSelected={choices.switch === "when-told"}
            onChange={(on) => choose("switch", on ? "when-told" : "")}
          >
            Stage it now, and switch when I say so
          </Switch>
        )}
      </Ask>
    );
  }
  return null;
}

function SheetOf({ wish, sheet, change }: { wish: Wish; sheet: Sheet["sheet"]; change: (to: Wish) => void }) {
  const given = Object.entries(wish.choices ?? {});
  return (
    <Panel>
      <h2>World, settings and server</h2>
      <FitSheet
        sheet={sheet}
        choices={wish.choices ?? {}}
        onChoose={
          wish.kind === "reset"
            ? undefined
            : (choices) =>
                change(
                  wish.kind === "rename"
                    ? { ...wish, world: choices["folder-name"] ?? wish.world }
                    : { ...wish, choices },
                )
        }
      />
      {given.length > 0 && (
        <p style={{ marginTop: "0.7rem" }}>
          You chose{" "}
          {given.map(([k, v]) => (
            <code key={k}>
              {k} = {v}{" "}
            </code>
          ))}{" "}
          <Button onPress={() => change({ ...wish, choices: {} })}>Forget the answers</Button>
        </p>
      )}
    </Panel>
  );
}

const More = styled.details`
  summary {
    cursor: pointer;
    font-weight: 600;
  }
  summary + * {
    margin-top: 0.8rem;
  }
`;

/** What can be left as it is stands behind a line; what has to be said is open. */
function Wishes({ wish, onChange }: { wish: Wish; onChange: (w: Wish) => void }) {
  const form = (
    <Wanted
      wish={wish}
      onChange={onChange}
    />
  );
  if (wish.kind === "switch" || wish.kind === "take-away") return null;
  if (wish.kind === "rename" || wish.kind === "reset" || wish.backup)
    return (
      <Panel>
        <h2>What you want</h2>
        {form}
      </Panel>
    );
  return (
    <Panel>
      <More open={Boolean(wish.beside || wish.choices?.title || wish.choices?.switch)}>
        <summary>Other wishes: beside the active world, another title, a copy first, when I say so</summary>
        {form}
      </More>
    </Panel>
  );
}

/** What is asked for stands in the address: going back, a reload and a closed lid lose nothing. */
function useWish(): [Wish, (to: Wish) => void] {
  const { name, choices, ...rest } = useSearch({ from: "/change" });
  const navigate = useNavigate();
  const wish: Wish = { ...rest, choices: choices ?? (name ? { "folder-name": name } : {}) };
  return [
    wish,
    ({ server, world, from, backup, aside, beside, what, files, choices: answers }) =>
      void navigate({
        to: "/change",
        search: {
          kind: rest.kind,
          server,
          world,
          from,
          backup,
          aside,
          beside: beside || undefined,
          what: what as "world" | undefined,
          files: files ?? undefined,
          choices: answers,
        },
        replace: true,
      }),
  ];
}

const Turn = styled.figure`
  display: flex;
  gap: 1rem;
  align-items: center;
  flex-wrap: wrap;
  & > div {
    display: flex;
    gap: 0.7rem;
    align-items: center;
    min-width: 0;
    overflow-wrap: anywhere;
  }
  small {
    display: block;
    color: var(--muted);
  }
`;

/** What stands on the server now, and what will, drawn. */
function NowAndThen({ wish }: { wish: Wish }) {
  const server = useQuery(queries.server(wish.server));
  const world = useQuery({ ...queries.world(wish.world ?? ""), enabled: Boolean(wish.world) });
  const s = server.data?.server;
  const then = world.data;
  const copy = then?.copies[0];
  if (!s || !then || !copy) return null;
  return (
    <Turn aria-label="Now and then">
      <div>
        <Picture
          size={96}
          src={s.drawn && s.activeTitle ? serverPicture(s.name, s.active, s.since) : undefined}
          of={s.activeTitle || s.active || s.name}
        />
        <span>
          <small>now on {s.name}</small>
          {s.activeTitle ? quoted(s.activeTitle) : s.active || "no world"}
          {s.active && !wish.beside && <small>is set aside, and can come back</small>}
        </span>
      </div>
      <span aria-hidden="true">→</span>
      <div>
        <Picture
          size={96}
          src={copy.drawn ? copyPicture(copy.id, 192) : undefined}
          of={then.title}
        />
        <span>
          <small>{wish.beside ? "beside it" : "then"}</small>
          {quoted(then.title)}
          <small>
            {bytes(copy.bytes)}, {count(copy.facts.playerCount, "player", "players")}
          </small>
        </span>
      </div>
    </Turn>
  );
}

/** What somebody else has done, or does, on the server since a plan was made: that plan does not hold any more. */
function Overtaken({ server, plan, anew }: { server: string; plan: Changeover; anew: () => void }) {
  const by = useOvertaking(server, plan);
  if (!by) return null;
  return (
    <Panel role="alert">
      <p>
        <Mark of="choose">somebody was here</Mark> {by.createdBy}{" "}
        {isOver(by) ? "has carried out" : "carries out"}{" "}
        <Link
          to="/changeovers/$id"
          params={{ id: String(by.id) }}
        >
          {by.title}
        </Link>{" "}
        on {server}, begun <Since at={by.startedAt ?? by.createdAt} />: this plan was made before.
      </p>
      <p style={{ marginTop: "0.6rem" }}>
        {isOver(by) ? <Button onPress={anew}>Make the plan anew</Button> : "When that is done, make it anew."}
      </p>
    </Panel>
  );
}

const isOver = (c: Changeover) => c.state === "done" || c.state === "undone";

/** The newest changeover of a server that was started after a plan was made. */
function useOvertaking(server: string, plan: Changeover | undefined): Changeover | undefined {
  const list = useQuery({ ...queries.changeovers(server), enabled: plan !== undefined });
  if (!plan) return undefined;
  const made = Date.parse(plan.createdAt);
  return list.data?.find((c) => c.id !== plan.id && Date.parse(c.startedAt ?? "") > made);
}

/** From what is wanted over the sheet and the plan to the start: nothing is touched before the last button. */
export function Change() {
  const navigate = useNavigate();
  const [wish, change] = useWish();
  const unnamed =
    (wish.kind === "rename" && !wish.world) || (wish.what === "files" && !wish.files?.some(Boolean));
  const sheeted = wish.kind !== "take-away" && !unnamed;
  const sheet = useQuery({ ...queries.sheet(wish), placeholderData: (old) => old, enabled: sheeted });
  const verdict = sheeted ? sheet.data?.sheet.verdict : undefined;
  const ready =
    wish.kind === "take-away" ||
    (!sheet.isPlaceholderData && (verdict === "fits" || verdict === "adjust") && !unnamed);
  // The plan is made as soon as it can be: it touches nothing, and one that is not carried out is forgotten.
  const draft = useQuery({ ...queries.draft(wish), enabled: ready });
  const plan = ready ? draft.data : undefined;
  const overtaken = useOvertaking(wish.server, plan) !== undefined;
  const anew = () => {
    void sheet.refetch();
    void draft.refetch();
  };
  const start = useMutation({
    mutationFn: (id: number) => api.act(id, "start"),
    onSuccess: (c) => navigate({ to: "/changeovers/$id", params: { id: String(c.id) } }),
    onError: () => void draft.refetch(), // what it was made for has changed
  });
  return (
    <Page>
      <div>
        <Crumb>
          <Link
            to="/servers/$server"
            params={{ server: wish.server }}
          >
            {wish.server}
          </Link>
        </Crumb>
        <Head>
          <h1>{titles[wish.kind](wish)}</h1>
          {verdict && <Mark of={verdict} />}
        </Head>
        {lead[wish.kind] && <Muted>{lead[wish.kind]}</Muted>}
      </div>
      {wish.kind === "put" && <NowAndThen wish={wish} />}
      {plan && (
        <Overtaken
          server={wish.server}
          plan={plan}
          anew={anew}
        />
      )}
      {draft.isError && ready && <Failure error={draft.error} />}
      {sheeted && sheet.isError && <Failure error={sheet.error} />}
      {wish.kind !== "put" && (
        <Wishes
          wish={wish}
          onChange={change}
        />
      )}
      {sheeted && sheet.data && (
        <SheetOf
          wish={wish}
          sheet={sheet.data.sheet}
          change={change}
        />
      )}
      {sheeted && sheet.isPending && <Loading say="Looking at the server and the world" />}
      {plan && (
        <Panel aria-live="polite">
          <h2>What will be done</h2>
          <PlanView plan={plan.plan} />
        </Panel>
      )}
      {wish.kind === "put" && (
        <Wishes
          wish={wish}
          onChange={change}
        />
      )}
      {(verdict || wish.kind === "take-away") && (
        <Decide>
          {/* Beside the button that was pressed, so that it is seen. */}
          {start.isError && (
            <div style={{ flex: "1 0 100%" }}>
              <Failure error={start.error} />
            </div>
          )}
          <p>{verdict ? verdictWords[verdict] : "Nothing changes on the server."}</p>
          <Button onPress={() => void navigate({ to: "/servers/$server", params: { server: wish.server } })}>
            Leave it
          </Button>
          <Button
            look="main"
            isDisabled={!plan || overtaken || start.isPending}
            onPress={() => plan && start.mutate(plan.id)}
          >
            Carry it out on {wish.server}
          </Button>
        </Decide>
      )}
    </Page>
  );
}
