import { Button as AriaButton, Switch as AriaSwitch, type ButtonProps } from "react-aria-components";
import styled from "styled-components";

type Look = "main" | "plain" | "grave";

const StyledButton = styled(AriaButton)<{ $look: Look }>`
  font: inherit;
  font-weight: 600;
  padding: 0.4rem 0.9rem;
  border-radius: 5px;
  cursor: pointer;
  white-space: nowrap;
  border: 1px solid
    ${(p) => (p.$look === "main" ? "var(--accent)" : p.$look === "grave" ? "var(--blocks)" : "var(--line-strong)")};
  background: ${(p) => (p.$look === "main" ? "var(--accent)" : "var(--raised)")};
  color: ${(p) => (p.$look === "main" ? "var(--accent-ink)" : p.$look === "grave" ? "var(--blocks)" : "var(--ink)")};
  &[data-hovered] {
    filter: brightness(0.95);
  }
  &[data-pressed] {
    transform: translateY(1px);
  }
  &[data-disabled] {
    opacity: 0.55;
    cursor: default;
  }
  &[data-focus-visible] {
    outline: 2px solid var(--focus);
    outline-offset: 2px;
  }
  @media (forced-colors: active) {
    forced-color-adjust: ${(p) => (p.$look === "main" ? "none" : "auto")};
    ${(p) => (p.$look === "main" ? "background: Highlight; color: HighlightText; border-color: Highlight;" : "")}
  }
`;

export function Button({ look = "plain", ...props }: ButtonProps & { look?: Look }) {
  return (
    <StyledButton
      {...props}
      $look={look}
    />
  );
}

/** Something that is on or off; its mark is a box with or without a tick. */
export const Switch = styled(AriaSwitch)`
  display: flex;
  gap: 0.55rem;
  align-items: center;
  cursor: pointer;
  &::before {
    content: "☐";
    font-size: 1.2rem;
    line-height: 1;
    color: var(--muted);
  }
  &[data-selected]::before {
    content: "☑";
    color: var(--accent);
  }
  &[data-focus-visible] {
    outline: 2px solid var(--focus);
    outline-offset: 2px;
    border-radius: 4px;
  }
  &[data-disabled] {
    opacity: 0.55;
    cursor: default;
  }
`;
