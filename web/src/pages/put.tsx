import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import styled from "styled-components";
import { api, type Choices } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
import { Crumb, Failure, Head, Page, Panel } from "../parts/layout";
import { Mark } from "../parts/marks";
import { PlanView } from "../parts/plan";
import { FitSheet } from "../parts/sheet";

const Decide = styled.div`
  position: sticky; bottom: 0; background: var(--raised); border: 1px solid var(--line-strong); border-radius: 7px; padding: 0.75rem 1.1rem; display: flex; gap: 1rem; align-items: center; box-shadow: 0 -2px 10px rgb(0 0 0 / 7%);
  p { margin-right: auto; }
`;

const verdictWords: Record<string, string> = {
  fits: "It fits as it is.",
  adjust: "It fits with the changes above. Nothing is touched until you carry the plan out.",
  choose: "Answer the questions above first.",
  blocks: "It does not fit as things are. Nothing has been changed.",
};

/** From the sheet over the plan to the start: nothing is touched before the last button. */
export function Put() {
  const { world, server } = useSearch({ from: "/put" });
  const navigate = useNavigate();
  const [choices, setChoices] = useState<Choices>({});
  const sheet = useQuery({ ...queries.fit(world, server, choices), placeholderData: (old) => old });
  const draft = useMutation({ mutationFn: () => api.draftPut(world, server, choices) });
  const start = useMutation({
    mutationFn: (id: number) => api.act(id, "start"),
    onSuccess: (c) => navigate({ to: "/changeovers/$id", params: { id: String(c.id) } }),
  });
  const verdict = sheet.data?.sheet.verdict;
  const ready = verdict === "fits" || verdict === "adjust";
  return (
    <Page>
      <div>
        <Crumb><Link to="/servers/$server" params={{ server }}>{server}</Link></Crumb>
        <Head><h1>Put <b>{world}</b> onto <b>{server}</b></h1>{verdict && <Mark of={verdict} />}</Head>
      </div>
      {sheet.isError && <Failure error={sheet.error} />}
      {sheet.data && (
        <Panel>
          <h2>Fit sheet</h2>
          <FitSheet sheet={sheet.data.sheet} choices={choices} onChoose={(c) => { setChoices(c); draft.reset(); }} />
          {Object.keys(choices).length > 0 && (
            <p style={{ marginTop: "0.7rem" }}>You chose {Object.entries(choices).map(([k, v]) => <code key={k}>{k} = {v} </code>)} <Button onPress={() => { setChoices({}); draft.reset(); }}>Forget the answers</Button></p>
          )}
        </Panel>
      )}
      {draft.isError && <Failure error={draft.error} />}
      {draft.data && <Panel aria-live="polite"><h2>Plan of changeover {draft.data.id}</h2><PlanView plan={draft.data.plan} /></Panel>}
      {start.isError && <Failure error={start.error} />}
      {verdict && (
        <Decide>
          <p>{verdictWords[verdict]}</p>
          {!draft.data && <Button look="main" isDisabled={!ready || draft.isPending || sheet.isFetching} onPress={() => draft.mutate()}>Make the plan</Button>}
          {draft.data && <Button onPress={() => void navigate({ to: "/servers/$server", params: { server } })}>Leave it</Button>}
          {draft.data && <Button look="main" isDisabled={start.isPending} onPress={() => draft.data && start.mutate(draft.data.id)}>Carry it out on {server}</Button>}
        </Decide>
      )}
    </Page>
  );
}
