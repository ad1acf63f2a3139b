import { useMutation } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Input, Label, Text, TextArea, TextField, type TextFieldProps } from "react-aria-components";
import styled from "styled-components";
import { Button } from "./controls";
import { Failure } from "./layout";

const Styled = styled(TextField)`
  display: grid;
  gap: 0.15rem;
  label {
    font-weight: 600;
    font-size: 0.9rem;
  }
  textarea {
    min-height: 4.5rem;
    font-family: monospace;
    resize: vertical;
  }
  input,
  textarea {
    font: inherit;
    padding: 0.38rem 0.55rem;
    border: 1px solid var(--line-strong);
    border-radius: 5px;
    background: var(--raised);
    color: var(--ink);
    min-width: 0;
    width: 100%;
  }
  &[data-disabled] {
    opacity: 0.6;
  }
  [slot="description"] {
    color: var(--muted);
    font-size: 0.85rem;
  }
`;

/** A labelled line of text. */
export function Field({ label, hint, ...props }: TextFieldProps & { label: string; hint?: string }) {
  return (
    <Styled {...props}>
      <Label>{label}</Label>
      <Input spellCheck="false" />
      {hint && <Text slot="description">{hint}</Text>}
    </Styled>
  );
}

/** A labelled text of several lines. */
export function Lines({ label, hint, ...props }: TextFieldProps & { label: string; hint?: string }) {
  return (
    <Styled {...props}>
      <Label>{label}</Label>
      <TextArea spellCheck="false" />
      {hint && <Text slot="description">{hint}</Text>}
    </Styled>
  );
}

export const Columns = styled.form`
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(15rem, 1fr));
  gap: 0.8rem 1.1rem;
  align-items: start;
  .wide {
    grid-column: 1 / -1;
  }
`;

/** A form that adds one thing: it goes once that is done, and says what is wrong until then. */
export function AddForm({
  add,
  act,
  acting,
  ready,
  onDone,
  children,
}: {
  add: () => Promise<unknown>;
  act: string;
  acting: string;
  ready: boolean;
  onDone: () => void;
  children: ReactNode;
}) {
  const adding = useMutation({ mutationFn: add, onSuccess: onDone });
  return (
    <>
      <Columns
        onSubmit={(e) => {
          e.preventDefault();
          adding.mutate();
        }}
      >
        {children}
        <div className="wide">
          <Button
            look="main"
            type="submit"
            isDisabled={!ready || adding.isPending}
          >
            {adding.isPending ? acting : act}
          </Button>{" "}
          <Button onPress={onDone}>Leave it</Button>
        </div>
      </Columns>
      {adding.isError && <Failure error={adding.error} />}
    </>
  );
}

/** Fields by which a list is looked through; on a phone two beside each other, below the one that is typed into. */
export const Filters = styled(Columns)`
  @media (max-width: 46rem) {
    grid-template-columns: repeat(2, minmax(0, 1fr));
    gap: 0.6rem 0.8rem;
    & > :first-child {
      grid-column: 1 / -1;
    }
  }
`;
