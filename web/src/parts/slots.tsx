import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Slots } from "../api/client";
import { queries } from "../api/queries";
import { bytes, when } from "../words";
import { Button } from "./controls";
import styled from "styled-components";
import { Failure, Muted, Panel } from "./layout";

const List = styled.ul`
  display: grid;
  gap: 0.5rem;
  margin: 0.8rem 0;
  padding: 0;
  list-style: none;
  li {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.4rem 0.8rem;
  }
`;

/** A provider's own backups of a server. They are its: nothing here removes one unless a person says which. */
export function ProviderSlots({ server }: { server: string }) {
  const client = useQueryClient();
  const slots = useQuery(queries.slots(server));
  const took = (now: Slots) => client.setQueryData(queries.slots(server).queryKey, now);
  const make = useMutation({ mutationFn: () => api.makeSlot(server), onSuccess: took });
  const remove = useMutation({ mutationFn: (name: string) => api.removeSlot(server, name), onSuccess: took });
  const [asked, setAsked] = useState("");
  if (slots.isPending) return <Muted>Asking its provider …</Muted>;
  if (slots.isError) return <Failure error={slots.error} />;
  const { provider, allowance, backups, canMake, canRemove } = slots.data;
  const full = allowance > 0 && backups.length >= allowance;
  return (
    <Panel>
      <h2>
        {provider} has {backups.length}
        {allowance > 0 && ` of ${allowance}`} backups of {server}
      </h2>
      <Muted>
        They are the provider’s: this is what it says of them, and Reshard has checked none of them.
      </Muted>
      <List aria-live="polite">
        {backups.map((b) => (
          <li key={b.name}>
            <strong>{b.name}</strong>, {b.madeAt ? when(b.madeAt) : "it does not say when"}
            {b.bytes >= 0 && `, ${bytes(b.bytes)}`}{" "}
            {canRemove && asked !== b.name && (
              <Button onPress={() => setAsked(b.name)}>Remove {b.name} …</Button>
            )}
            {asked === b.name && (
              <Button
                look="grave"
                isDisabled={remove.isPending}
                onPress={() => remove.mutate(b.name, { onSettled: () => setAsked("") })}
              >
                Remove it: nobody can bring it back
              </Button>
            )}
          </li>
        ))}
      </List>
      {canMake && (
        <Button
          isDisabled={full || make.isPending}
          onPress={() => make.mutate()}
        >
          {make.isPending ? "Its provider makes a backup …" : "Have the provider make one"}
        </Button>
      )}
      {full && (
        <Muted>
          All are taken: to make another, remove one that you can do without{canRemove ? "" : " on its page"}.
        </Muted>
      )}
      {make.isError && <Failure error={make.error} />}
      {remove.isError && <Failure error={remove.error} />}
    </Panel>
  );
}
