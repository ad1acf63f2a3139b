import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { Radio, RadioGroup } from "react-aria-components";
import styled from "styled-components";
import { api, type Choices, type Kind, type Sheet, type Wish } from "../api/client";
import { queries } from "../api/queries";
import { Choice } from "../parts/choice";
import { Button, Switch } from "../parts/controls";
import { Field } from "../parts/form";
import { Crumb, Failure, Head, Muted, Page, Panel } from "../parts/layout";
import { Mark } from "../parts/marks";
import { PlanView } from "../parts/plan";
import { FitSheet } from "../parts/sheet";

const Decide = styled.div`
  position: sticky;
  bottom: 0;
  background: var(--raised);
  border: 1px solid var(--line-strong);
  border-radius: 7px;
  padding: 0.75rem 1.1rem;
  display: flex;
  gap: 1rem;
  align-items: center;
  box-shadow: 0 -2px 10px rgb(0 0 0 / 7%);
  p {
    margin-right: auto;
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
  adjust: "It fits with the changes above. Nothing is touched until you carry the plan out.",
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
      <h2>Fit sheet</h2>
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

/** From what is wanted over the sheet and the plan to the start: nothing is touched before the last button. */
export function Change() {
  const search = useSearch({ from: "/change" });
  const navigate = useNavigate();
  const [wish, setWish] = useState<Wish>(() => ({
    ...search,
    choices: search.name ? { "folder-name": search.name } : {},
  }));
  const unnamed =
    (wish.kind === "rename" && !wish.world) || (wish.what === "files" && !wish.files?.some(Boolean));
  const sheeted = wish.kind !== "take-away" && !unnamed;
  const sheet = useQuery({ ...queries.sheet(wish), placeholderData: (old) => old, enabled: sheeted });
  const draft = useMutation({ mutationFn: () => api.draft(wish) });
  const start = useMutation({
    mutationFn: (id: number) => api.act(id, "start"),
    onSuccess: (c) => navigate({ to: "/changeovers/$id", params: { id: String(c.id) } }),
  });
  const change = (w: Wish) => {
    setWish(w);
    draft.reset();
  };
  const verdict = sheeted ? sheet.data?.sheet.verdict : undefined;
  const ready = wish.kind === "take-away" || verdict === "fits" || verdict === "adjust";
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
      {wish.kind !== "switch" && wish.kind !== "take-away" && (
        <Panel>
          <h2>What you want</h2>
          <Wanted
            wish={wish}
            onChange={change}
          />
        </Panel>
      )}
      {sheeted && sheet.isError && <Failure error={sheet.error} />}
      {sheeted && sheet.data && (
        <SheetOf
          wish={wish}
          sheet={sheet.data.sheet}
          change={change}
        />
      )}
      {draft.isError && <Failure error={draft.error} />}
      {draft.data && (
        <Panel aria-live="polite">
          <h2>Plan of changeover {draft.data.id}</h2>
          <PlanView plan={draft.data.plan} />
        </Panel>
      )}
      {start.isError && <Failure error={start.error} />}
      {(verdict || wish.kind === "take-away") && (
        <Decide>
          <p>{verdict ? verdictWords[verdict] : "Nothing changes on the server."}</p>
          {!draft.data && (
            <Button
              look="main"
              isDisabled={!ready || draft.isPending || sheet.isFetching}
              onPress={() => draft.mutate()}
            >
              Make the plan
            </Button>
          )}
          {draft.data && (
            <Button
              onPress={() => void navigate({ to: "/servers/$server", params: { server: wish.server } })}
            >
              Leave it
            </Button>
          )}
          {draft.data && (
            <Button
              look="main"
              isDisabled={start.isPending}
              onPress={() => draft.data && start.mutate(draft.data.id)}
            >
              Carry it out on {wish.server}
            </Button>
          )}
        </Decide>
      )}
    </Page>
  );
}
