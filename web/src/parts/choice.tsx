import { Button, Label, ListBox, ListBoxItem, Popover, Select, SelectValue } from "react-aria-components";
import styled from "styled-components";

const Styled = styled(Select)`
  display: grid;
  gap: 0.15rem;
  .react-aria-Label {
    font-weight: 600;
    font-size: 0.9rem;
  }
  button {
    font: inherit;
    text-align: left;
    padding: 0.38rem 0.55rem;
    border: 1px solid var(--line-strong);
    border-radius: 5px;
    background: var(--raised);
    color: var(--ink);
    cursor: pointer;
    display: flex;
    justify-content: space-between;
    gap: 0.6rem;
  }
  button[data-focus-visible] {
    outline: 2px solid var(--focus);
    outline-offset: 2px;
  }
` as typeof Select;

const List = styled(Popover)`
  background: var(--raised);
  border: 1px solid var(--line-strong);
  border-radius: 5px;
  min-width: var(--trigger-width);
  max-height: 20rem;
  overflow: auto;
  box-shadow: var(--shadow);
  [role="option"] {
    padding: 0.35rem 0.6rem;
    cursor: pointer;
  }
  [role="option"][data-focused] {
    background: var(--accent-soft);
  }
  [role="option"][data-selected] {
    font-weight: 650;
  }
`;

const none = "\u0000all";

/** One of several, or all of them (""). */
export function Choice({
  label,
  all,
  options,
  value,
  onChange,
}: {
  label: string;
  all: string;
  options: string[];
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <Styled
      value={value || none}
      onChange={(key) => onChange(key === none || key === null ? "" : String(key))}
    >
      <Label>{label}</Label>
      <Button>
        <SelectValue />
        <span aria-hidden="true">▾</span>
      </Button>
      <List>
        <ListBox>
          <ListBoxItem id={none}>{all}</ListBoxItem>
          {options.map((o) => (
            <ListBoxItem
              key={o}
              id={o}
            >
              {o}
            </ListBoxItem>
          ))}
        </ListBox>
      </List>
    </Styled>
  );
}
