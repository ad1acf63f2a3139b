import { Tab as AriaTab, TabList as AriaTabList } from "react-aria-components";
import styled from "styled-components";

export const TabList = styled(AriaTabList)`
  display: flex;
  flex-wrap: wrap;
  gap: 0 1.4rem;
  border-bottom: 1px solid var(--line);
  margin-bottom: 1.1rem;
` as typeof AriaTabList;

export const Tab = styled(AriaTab)`
  padding: 0.45rem 0;
  cursor: pointer;
  color: var(--muted);
  font-weight: 600;
  border-bottom: 3px solid transparent;
  margin-bottom: -1px;
  white-space: nowrap;
  &[data-selected] {
    color: var(--ink);
    border-color: var(--accent);
  }
  &[data-hovered] {
    color: var(--ink);
  }
  @media (forced-colors: active) {
    border-color: Canvas;
    &[data-selected] {
      border-color: Highlight;
    }
  }
  &[data-focus-visible] {
    outline: 2px solid var(--focus);
    outline-offset: 2px;
  }
`;
