import styled from "styled-components";
import type { Changeover, Plan, Proof } from "../api/client";
import { bytes, millis } from "../words";
import { Mark } from "./marks";

const Steps = styled.ol`
  display: grid;
  counter-reset: step;
  li {
    display: grid;
    grid-template-columns: 1.6rem 6.4rem minmax(0, 1fr);
    gap: 0.5rem;
    padding: 0.28rem 0.5rem;
    align-items: baseline;
  }
  small {
    color: var(--muted);
    white-space: nowrap;
    margin-left: 0.4rem;
  }
  li::before {
    counter-increment: step;
    content: counter(step);
    color: var(--muted);
    text-align: right;
    font-variant-numeric: tabular-nums;
  }
  li[data-window] {
    background: var(--adjust-soft);
  }
  li.edge {
    grid-template-columns: 1fr;
    color: var(--adjust);
    font-weight: 600;
    font-size: 0.87rem;
    background: var(--adjust-soft);
    padding-left: 2.6rem;
  }
  li.edge::before {
    content: none;
    counter-increment: none;
  }
  li.edge.first {
    border-radius: 5px 5px 0 0;
    margin-top: 0.25rem;
  }
  li.edge.last {
    border-radius: 0 0 5px 5px;
    margin-bottom: 0.25rem;
  }
`;

/** Whether players are locked out while a plan is carried out. */
export const locksOut = (plan: Plan): boolean =>
  plan.kind !== "first-start" && plan.steps.some((s) => s.kind === "start" && !s.server);

function Took({ step }: { step: NonNullable<Changeover["steps"]>[number] }) {
  if (step.state !== "done" || step.tookMs < 0) return null;
  return (
    <small>
      {" "}
      {millis(step.tookMs)}
      {step.bytes ? `, ${bytes(step.bytes)}` : ""}
    </small>
  );
}

/** The steps of a plan in order, the stop window marked; with states once it runs. */
export function PlanSteps({ plan, steps }: { plan: Plan; steps?: Changeover["steps"] }) {
  const rows: React.ReactNode[] = [];
  let inside = false;
  const stops = locksOut(plan);
  plan.steps.forEach((s, n) => {
    if (stops && s.switch && !inside)
      rows.push(
        <li
          key="shut"
          className="edge first"
        >
          Players are locked out from here
        </li>,
      );
    if (!s.switch && inside)
      rows.push(
        <li
          key="open"
          className="edge last"
        >
          Players can join again
        </li>,
      );
    inside = stops && s.switch;
    const state = steps?.[n]?.state;
    rows.push(
      // oxlint-disable-next-line react/no-array-index-key -- a step is its place in the plan
      <li
        key={n}
        data-window={inside || undefined}
        data-step={s.kind}
        data-state={state}
      >
        <span>
          {state ? (
            <Mark
              of={state}
              quiet
            >
              {state === "intended" ? "under way" : state}
            </Mark>
          ) : (
            <b>{s.kind}</b>
          )}
        </span>
        <span>
          {s.say}
          {steps?.[n]?.note &&
            (steps[n]?.warns ? <b> {steps[n]?.note}</b> : <small> {steps[n]?.note}</small>)}
          {steps?.[n] && <Took step={steps[n]} />}
        </span>
      </li>,
    );
  });
  return <Steps aria-label="Steps">{rows}</Steps>;
}

const Sides = styled.table`
  width: 100%;
  border-collapse: collapse;
  table-layout: fixed;
  background: var(--raised);
  border: 1px solid var(--line);
  border-radius: 5px;
  font-family: var(--mono);
  font-size: 0.86rem;
  line-height: 1.5;
  caption {
    text-align: left;
    font-family: var(--mono);
    font-weight: 600;
    padding-bottom: 0.3rem;
  }
  th {
    font-weight: 600;
    color: var(--muted);
    text-align: left;
    padding: 0.25rem 0.7rem;
    border-bottom: 1px solid var(--line);
    font-family: var(--text, inherit);
  }
  td {
    padding: 0 0.7rem;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    vertical-align: top;
    color: var(--muted);
  }
  td + td,
  th + th {
    border-left: 1px solid var(--line);
  }
  td.gone {
    background: var(--blocks-soft);
    color: var(--ink);
  }
  td.come {
    background: var(--fits-soft);
    color: var(--ink);
  }
  tr.gap td {
    text-align: center;
  }
`;

type Pair = { before?: string; after?: string; changed: boolean; gap?: boolean };

/** Lays a unified diff out in two columns: what was taken away stands beside what came for it. */
export function sides(text: string): Pair[] {
  const out: Pair[] = [];
  let gone: string[] = [];
  let come: string[] = [];
  const flush = () => {
    for (let i = 0; i < Math.max(gone.length, come.length); i++)
      out.push({ before: gone[i], after: come[i], changed: true });
    gone = [];
    come = [];
  };
  for (const l of text.split("\n")) {
    if (l.startsWith("---") || l.startsWith("+++")) continue;
    if (l.startsWith("@@")) {
      flush();
      if (out.length > 0) out.push({ changed: false, gap: true });
    } else if (l.startsWith("-")) gone.push(l.slice(1));
    else if (l.startsWith("+")) come.push(l.slice(1));
    else if (l !== "") {
      flush();
      out.push({ before: l.slice(1), after: l.slice(1), changed: false });
    }
  }
  flush();
  return out;
}

/** A settings change, before and after side by side. */
export function Diff({ file, text }: { file: string; text: string }) {
  return (
    <Sides aria-label={`Change of ${file}`}>
      <caption>{file}</caption>
      <thead>
        <tr>
          <th scope="col">Now</th>
          <th scope="col">Afterwards</th>
        </tr>
      </thead>
      <tbody>
        {sides(text).map((p, i) =>
          p.gap ? (
            // oxlint-disable-next-line react/no-array-index-key -- a line is its place in the diff
            <tr
              key={i}
              className="gap"
            >
              <td colSpan={2}>…</td>
            </tr>
          ) : (
            // oxlint-disable-next-line react/no-array-index-key -- a line is its place in the diff
            <tr key={i}>
              <td className={p.changed && p.before !== undefined ? "gone" : ""}>{p.before}</td>
              <td className={p.changed && p.after !== undefined ? "come" : ""}>{p.after}</td>
            </tr>
          ),
        )}
      </tbody>
    </Sides>
  );
}

export function windowText(plan: Plan): string {
  const { stopping, starting, ours } = plan.window;
  if (!locksOut(plan)) return "none, the server is not stopped";
  if (stopping < 0 || starting < 0)
    return "under 0.1 s of ours, and what the game takes to stop and start (not measured yet)";
  const all = millis(stopping + starting + ours);
  return `about ${all}: game stopping ${millis(stopping)}, ours under 0.1 s, game starting ${millis(starting)}`;
}

const Notes = styled.ul`
  display: grid;
  gap: 0.3rem;
  margin-top: 0.7rem;
  li {
    padding-left: 1.1rem;
    text-indent: -1.1rem;
  }
  li::before {
    content: "•  ";
    color: var(--muted);
  }
`;

const Below = styled.div`
  display: grid;
  gap: 0.7rem;
  margin-top: 0.9rem;
`;

/** All that a person should read before saying yes. */
export function PlanView({ plan, steps }: { plan: Plan; steps?: Changeover["steps"] }) {
  return (
    <>
      <PlanSteps
        plan={plan}
        steps={steps}
      />
      <Below>
        {plan.diffs
          .filter((d) => d.text)
          .map((d) => (
            <Diff
              key={d.file}
              file={d.file}
              text={d.text}
            />
          ))}
        <p>
          Stop window: <b>{windowText(plan)}</b>
          {plan.needBytes > 0 && (
            <>
              . Space needed: <b>{bytes(plan.needBytes)}</b>
            </>
          )}
          .
        </p>
      </Below>
      <Notes>
        {plan.notes.map((n) => (
          <li key={n}>{n}</li>
        ))}
      </Notes>
    </>
  );
}

const Checks = styled.ul`
  display: grid;
  gap: 0.35rem;
  li {
    display: grid;
    grid-template-columns: 5rem minmax(0, 1fr);
    gap: 0.6rem;
    align-items: baseline;
    overflow-wrap: anywhere;
  }
  small {
    color: var(--muted);
    font-size: 0.9rem;
    display: block;
  }
`;

/** The evidence, each line with what was expected and what was seen. */
export function ProofList({ proof }: { proof: Proof }) {
  return (
    <Checks aria-label="Proof">
      {proof.checks.map((c) => (
        <li key={c.what}>
          <Mark
            of={c.ok ? "fits" : c.unseen || c.aside ? "unknown" : "blocks"}
            quiet
          >
            {c.ok ? "holds" : c.unseen ? "not seen" : c.aside ? "differs" : "fails"}
          </Mark>
          <span>
            {c.what}: <b>{c.seen}</b>
            {!c.ok && <small>expected {c.expected}</small>}
          </span>
        </li>
      ))}
    </Checks>
  );
}
