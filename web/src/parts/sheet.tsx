import { useState } from "react";
import styled from "styled-components";
import { Input, Label, Radio, RadioGroup, TextField } from "react-aria-components";
import type { Choices, Row, Sheet } from "../api/client";
import { Mark } from "./marks";
import { Button } from "./controls";
import { count } from "../words";

const Grid = styled.table`
  width: 100%;
  border-collapse: collapse;
  table-layout: fixed;
  th {
    text-align: left;
    font-weight: 600;
    color: var(--muted);
    font-size: 0.87rem;
    padding: 0.3rem 0.9rem 0.45rem 0;
    border-bottom: 1px solid var(--line-strong);
  }
  th:first-child {
    width: 6.6rem;
  }
  th:nth-child(2) {
    width: 9.5rem;
  }
  td {
    padding: 0.55rem 0.9rem 0.35rem 0;
    vertical-align: top;
    overflow-wrap: anywhere;
  }
  tbody {
    border-bottom: 1px solid var(--line);
  }
  tbody[data-open] {
    background: color-mix(in srgb, var(--choose-soft) 45%, transparent);
  }
  tbody[data-blocked] {
    background: color-mix(in srgb, var(--blocks-soft) 45%, transparent);
  }
  tbody:last-of-type {
    border-bottom: 0;
  }
  tr.say td {
    padding: 0 0.9rem 0.65rem 6.6rem;
    color: var(--muted);
  }
  small {
    display: block;
    color: var(--muted);
    font-size: 0.84rem;
  }
  td:first-child {
    padding-left: 0.35rem;
  }
  b {
    color: var(--ink);
    font-weight: 600;
  }
  ul {
    margin: 0.3rem 0 0 1.1rem;
    list-style: square;
  }
  /* On a phone each concern is a card: what three say of it one below the other. */
  @media (max-width: 46rem) {
    &,
    tbody {
      display: block;
    }
    thead {
      display: none;
    }
    tbody {
      padding: 0.7rem 0.35rem;
    }
    tr {
      display: grid;
      grid-template-columns: minmax(0, 1fr) auto;
      gap: 0.15rem 0.6rem;
    }
    td,
    td:first-child,
    tr.say td {
      padding: 0;
    }
    td:first-child {
      order: 2;
    }
    td:nth-child(2) {
      order: 1;
    }
    td[data-says] {
      order: 3;
      grid-column: 1 / -1;
      display: grid;
      grid-template-columns: 6.5rem minmax(0, 1fr);
      gap: 0.6rem;
    }
    td[data-says]::before {
      content: attr(data-says);
      color: var(--muted);
      font-size: 0.87rem;
    }
    td[data-says]:has(span[aria-label="says nothing"]) {
      display: none;
    }
    tr.say {
      display: block;
      margin-top: 0.4rem;
    }
    tr.say td {
      display: block;
    }
  }
`;

const order: Record<string, number> = { blocks: 0, choose: 1, adjust: 2, fits: 3 };

function CellText({ cell }: { cell: Row["world"] }) {
  if (!cell.text) return <span aria-label="says nothing">–</span>;
  return (
    <div>
      {cell.text}
      {cell.from && <small>{cell.from}</small>}
    </div>
  );
}

/** World, settings and server side by side; the broken pairs at the top, the questions answered in place. */
export function FitSheet({
  sheet,
  choices,
  onChoose,
}: {
  sheet: Sheet["sheet"];
  choices: Choices;
  onChoose?: (c: Choices) => void;
}) {
  const idle = sheet.rows.filter((r) => r.idle && r.verdict === "fits");
  const rows = sheet.rows
    .filter((r) => !idle.includes(r))
    .toSorted((a, b) => (order[a.verdict] ?? 9) - (order[b.verdict] ?? 9));
  // What did not fit stays in sight when it fits, so that one sees what an answer has done.
  const [was, setWas] = useState<ReadonlySet<string>>(new Set());
  const broken = rows.filter((r) => r.verdict !== "fits").map((r) => r.concern);
  if (broken.some((c) => !was.has(c))) setWas(new Set([...was, ...broken]));
  const open = rows.filter((r) => r.verdict !== "fits" || was.has(r.concern));
  const fits = rows.filter((r) => !open.includes(r));
  const [all, setAll] = useState(false);
  const shown = all || open.length === 0 ? rows : open;
  return (
    <>
      <Grid aria-label="Fit sheet">
        <thead>
          <tr>
            <th scope="col">Verdict</th>
            <th scope="col">Concern</th>
            <th scope="col">World says</th>
            <th scope="col">Settings say</th>
            <th scope="col">Server has</th>
          </tr>
        </thead>
        {shown.map((r) => (
          <tbody
            key={r.concern}
            data-concern={r.concern}
            data-open={r.verdict === "choose" || undefined}
            data-blocked={r.verdict === "blocks" || undefined}
          >
            <tr>
              <td>
                <Mark of={r.verdict} />
              </td>
              <td>
                <b>{r.title}</b>
              </td>
              <td data-says="World says">
                <CellText cell={r.world} />
              </td>
              <td data-says="Settings say">
                <CellText cell={r.settings} />
              </td>
              <td data-says="Server has">
                <CellText cell={r.server} />
              </td>
            </tr>
            <tr className="say">
              <td colSpan={5}>
                {r.say} {r.mend && <b>{r.mend}</b>}
                {(r.todo?.length ?? 0) > 0 && (
                  <ul>
                    {r.todo?.map((t) => (
                      <li key={t}>{t}</li>
                    ))}
                  </ul>
                )}
                {r.options.length > 0 && onChoose && (
                  <Answers
                    row={r}
                    choices={choices}
                    onChoose={onChoose}
                  />
                )}
              </td>
            </tr>
          </tbody>
        ))}
      </Grid>
      {shown !== rows && fits.length > 0 && (
        <Idle>
          {count(fits.length, "concern fits", "concerns fit")}:{" "}
          {fits.map((r) => r.title.toLowerCase()).join(", ")}.{" "}
          <Button onPress={() => setAll(true)}>Show what fits</Button>
        </Idle>
      )}
      {(shown === rows || fits.length === 0) && idle.length > 0 && (
        <Idle>Nothing to compare: {idle.map((r) => r.title.toLowerCase()).join(", ")}.</Idle>
      )}
    </>
  );
}

const Idle = styled.p`
  color: var(--muted);
  font-size: 0.9rem;
  margin: 0.7rem 0 0 0.35rem;
`;

const Group = styled(RadioGroup)`
  margin: 0.5rem 0 0.3rem;
  display: grid;
  gap: 0.3rem;
  [data-rac].answer {
    display: flex;
    gap: 0.55rem;
    align-items: baseline;
    cursor: pointer;
    padding: 0.25rem 0.5rem;
    border: 1px solid var(--line);
    border-radius: 5px;
    background: var(--raised);
    color: var(--ink);
  }
  .answer::before {
    content: "";
    width: 0.8em;
    height: 0.8em;
    flex: none;
    border: 2px solid var(--line-strong);
    border-radius: 50%;
    transform: translateY(0.1em);
  }
  .answer[data-selected]::before {
    border: 0.26em solid var(--accent);
  }
  .answer[data-focus-visible] {
    outline: 2px solid var(--focus);
  }
`;

const Own = styled.form`
  display: flex;
  gap: 0.5rem;
  align-items: end;
  margin-top: 0.4rem;
  label {
    display: block;
    font-size: 0.87rem;
  }
  input {
    font: inherit;
    font-family: var(--mono);
    padding: 0.3rem 0.5rem;
    border: 1px solid var(--line-strong);
    border-radius: 4px;
    background: var(--raised);
    color: var(--ink);
    width: 100%;
    max-width: 18rem;
  }
`;

function Answers({ row, choices, onChoose }: { row: Row; choices: Choices; onChoose: (c: Choices) => void }) {
  const [own, setOwn] = useState("");
  const named = row.options.some((o) => o.choice === "folder-name");
  const current = row.options.findIndex((o) => (choices[o.choice] ?? row.chosen) === o.answer);
  return (
    <>
      <Group
        aria-label={`Answer for ${row.title}`}
        value={current < 0 ? null : String(current)}
        onChange={(i) => {
          const o = row.options[Number(i)];
          if (o) onChoose({ ...choices, [o.choice]: o.answer });
        }}
      >
        {row.options.map((o, i) => (
          <Radio
            key={o.choice + o.answer}
            value={String(i)}
            className="answer"
          >
            <span>
              <b>
                <code>{o.answer}</code>
              </b>{" "}
              {o.say}
            </span>
          </Radio>
        ))}
      </Group>
      {named && (
        <Own
          onSubmit={(e) => {
            e.preventDefault();
            onChoose({ ...choices, "folder-name": own });
          }}
        >
          <TextField
            value={own}
            onChange={setOwn}
          >
            <Label>Another folder name</Label>
            <Input
              spellCheck="false"
              autoComplete="off"
            />
          </TextField>
          <Button
            type="submit"
            isDisabled={own === ""}
          >
            Use this name
          </Button>
        </Own>
      )}
    </>
  );
}
