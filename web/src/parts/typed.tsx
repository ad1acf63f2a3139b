import { useState } from "react";
import styled from "styled-components";
import type { Asks } from "../api/client";
import { Button } from "./controls";
import { Muted } from "./layout";

const List = styled.dl`
  display: grid;
  gap: 0.6rem;
  margin: 0.4rem 0;
`;

const Value = styled.dd`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.3rem 0.6rem;
  margin: 0;
  code {
    font-size: 1.15rem;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
`;

/** What a person may have to type on a provider's page before a start, letter by letter, and copied with a press. */
export function ToType({ what }: { what: NonNullable<Asks["type"]> }) {
  return (
    <>
      <Muted>
        Before that: where its page has a field for one of these, set it there too, or the page may write what
        it holds over the file.
      </Muted>
      <List>
        {what.map((t) => (
          <div key={t.label}>
            <dt>{t.label}</dt>
            <Value>
              <code>{t.value}</code>
              <Copy
                text={t.value}
                label={`Copy ${t.label}`}
              />
              <Muted as="span">{t.spelled}</Muted>
            </Value>
          </div>
        ))}
      </List>
    </>
  );
}

/** A button that copies a text; where a browser does not let it, the text can be marked by hand. */
function Copy({ text, label }: { text: string; label: string }) {
  const [how, setHow] = useState<"" | "copied" | "refused">("");
  return (
    <Button
      aria-label={how === "copied" ? `${label}: copied` : label}
      onPress={async () => {
        try {
          await navigator.clipboard.writeText(text);
          setHow("copied");
        } catch {
          setHow("refused"); // over plain HTTP from elsewhere there is no clipboard
        }
        setTimeout(() => setHow(""), 4000);
      }}
    >
      {how === "copied" ? "Copied" : how === "refused" ? "Mark it and copy it" : "Copy"}
    </Button>
  );
}
