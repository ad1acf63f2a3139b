import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, type Rule, type RuleWords } from "../api/client";
import { queries } from "../api/queries";
import { count, when } from "../words";
import { Choice } from "./choice";
import { Button, Switch } from "./controls";
import { Columns, Field } from "./form";
import { Failure, Muted, Panel } from "./layout";
import { Mark } from "./marks";
import { TimeLine } from "./time-line";

export const usualLong =
  "all for 2 days, then one a day for 3 weeks, then one a week for 6 months, then one a month for ever";

const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
const times: Record<string, string> = {
  "each day at four": "0 4 * * *",
  "every six hours": "0 */6 * * *",
  "every hour": "0 * * * *",
  "each Sunday at five": "0 5 * * 0",
};
const played = "every half hour while somebody plays";
const own = "by an expression of my own";

const Line = styled.li`
  display: grid;
  gap: 0.3rem;
  padding: 0.6rem 0;
  border-bottom: 1px solid var(--line);
  &:last-child {
    border-bottom: 0;
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
  }
`;

/** The rules of a server's backups, and a form for another one, with what it would keep. */
export function Rules({ server }: { server: string }) {
  const rules = useQuery(queries.rules(server));
  const [adding, setAdding] = useState(false);
  if (rules.isError) return <Failure error={rules.error} />;
  const none = rules.data?.length === 0;
  return (
    <Panel>
      <h2>Rules</h2>
      {none && !adding && (
        <Muted>
          No rule yet: nothing is backed up by itself. A rule takes a minute, and shows first what it keeps.
        </Muted>
      )}
      <ul aria-live="polite">
        {rules.data?.map((r) => (
          <RuleLine
            key={r.name}
            rule={r}
          />
        ))}
      </ul>
      {adding ? (
        <AddRule
          server={server}
          first={none ?? true}
          onDone={() => setAdding(false)}
        />
      ) : (
        <p style={{ marginTop: "0.7rem" }}>
          <Button
            look={none ? "main" : "plain"}
            onPress={() => setAdding(true)}
          >
            Add a rule …
          </Button>
        </p>
      )}
    </Panel>
  );
}

function RuleLine({ rule: r }: { rule: Rule }) {
  const client = useQueryClient();
  const settled = () => {
    for (const key of ["rules", "backups", "alerts", "report"])
      void client.invalidateQueries({ queryKey: [key] });
  };
  const pause = useMutation({
    mutationFn: () => api.changeRule(r.server, r.name, { paused: !r.pausedAt }),
    onSettled: settled,
  });
  const run = useMutation({ mutationFn: () => api.runRule(r.server, r.name), onSettled: settled });
  const remove = useMutation({ mutationFn: () => api.removeRule(r.server, r.name), onSettled: settled });
  const [sure, setSure] = useState(false);
  const state = r.trouble ? "blocks" : r.pausedAt ? "held" : r.lastGood ? "done" : "planned";
  return (
    <Line>
      <p>
        <Mark
          of={state}
          quiet
        >
          <strong>{r.name}</strong>
        </Mark>{" "}
        {r.says}.
      </p>
      {r.trouble && <p>{r.trouble}</p>}
      <Muted>
        {r.pausedAt
          ? `Paused by ${r.pausedBy} on ${when(r.pausedAt)}.`
          : r.due
            ? `Due next on ${when(r.due)}.`
            : "Due while somebody plays."}{" "}
        {r.lastGood ? `The last good backup is of ${when(r.lastGood)}.` : "It has made no good backup yet."}{" "}
        {count(r.kept, "is kept", "are kept")}.
      </Muted>
      <div className="acts">
        <Button
          isDisabled={run.isPending}
          onPress={() => run.mutate()}
        >
          Follow it now
        </Button>
        <Button
          isDisabled={pause.isPending}
          onPress={() => pause.mutate()}
        >
          {r.pausedAt ? "Go on with it" : "Pause it"}
        </Button>
        {sure ? (
          <Button
            look="grave"
            isDisabled={remove.isPending}
            onPress={() => remove.mutate()}
          >
            Forget it: its backups stay
          </Button>
        ) : (
          <Button onPress={() => setSure(true)}>Forget it …</Button>
        )}
      </div>
      {run.isError && <Failure error={run.error} />}
      {pause.isError && <Failure error={pause.error} />}
      {remove.isError && <Failure error={remove.error} />}
    </Line>
  );
}

function AddRule({ server, first, onDone }: { server: string; first: boolean; onDone: () => void }) {
  const client = useQueryClient();
  const [name, setName] = useState(first ? "usual" : "");
  const [way, setWay] = useState("each day at four");
  const [cron, setCron] = useState("0 4 * * *");
  const [long, setLong] = useState(usualLong);
  const [most, setMost] = useState("");
  const [gigabytes, setGigabytes] = useState("");
  const [mayStop, setMayStop] = useState(false);
  const rule: RuleWords = {
    ...(way === played ? { every: 1800 } : { cron: way === own ? cron : (times[way] ?? cron) }),
    zone,
    long,
    mayStop,
    number: Number(most) || 0,
    bytes: Math.round((Number(gigabytes) || 0) * 1e9),
  };
  const preview = useQuery({ ...queries.preview(server, { rule }), placeholderData: (old) => old });
  const add = useMutation({
    mutationFn: () => api.addRule(server, { name, rule }),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["rules"] });
      void client.invalidateQueries({ queryKey: ["report"] });
      onDone();
    },
  });
  const p = preview.data;
  return (
    <>
      <Columns
        style={{ marginTop: "0.8rem" }}
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <Choice
          label="When"
          all="each day at four"
          options={[...Object.keys(times).slice(1), played, own]}
          value={way === "each day at four" ? "" : way}
          onChange={(v) => setWay(v || "each day at four")}
        />
        {way === own && (
          <Field
            label="Expression"
            hint="As of cron: minute, hour, day of the month, month, day of the week"
            value={cron}
            onChange={setCron}
          />
        )}
        <Field
          label="Name"
          hint="a-z, 0-9 and hyphen"
          value={name}
          onChange={setName}
          autoComplete="off"
        />
        <div className="wide">
          <Field
            label="How long"
            hint="A sentence: all, or one every so often, for so long, then …"
            value={long}
            onChange={setLong}
          />
        </div>
        <Field
          label="At most so many"
          hint="Left empty: any number"
          value={most}
          onChange={setMost}
          inputMode="numeric"
        />
        <Field
          label="At most so many GB"
          hint="Left empty: any size"
          value={gigabytes}
          onChange={setGigabytes}
          inputMode="decimal"
        />
        <div className="wide">
          <Switch
            isSelected={mayStop}
            onChange={setMayStop}
          >
            A server that cannot hold its writes may be stopped for a moment
          </Switch>
        </div>
        <div className="wide">
          {preview.isError ? (
            <Failure error={preview.error} />
          ) : (
            p && (
              <>
                <p>
                  <strong>{p.says}.</strong>
                </p>
                {p.next.length > 0 && (
                  <Muted>
                    Times of {zone}. Next: {p.next.slice(0, 3).map(when).join(", ")}.
                  </Muted>
                )}
                <TimeLine
                  label={`In the long run, of ${count(p.made, "backup", "backups")}`}
                  moments={p.shown.map((s) => ({ at: s.at, keeps: s.keeps, says: s.why }))}
                />
                <Muted>
                  Pinned backups and those made by hand stand above rules, and the last good one never goes.
                  What a rule lets go is set aside first.
                </Muted>
              </>
            )
          )}
        </div>
        <div className="wide">
          <Button
            look="main"
            type="submit"
            isDisabled={!name || preview.isError || add.isPending}
          >
            Add this rule
          </Button>{" "}
          <Button onPress={onDone}>Leave it</Button>
        </div>
      </Columns>
      {add.isError && <Failure error={add.error} />}
    </>
  );
}
