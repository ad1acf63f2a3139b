import { getLocalTimeZone, toCalendarDate, today } from "@internationalized/date";
import {
  Button,
  Calendar,
  CalendarCell,
  CalendarGrid,
  CalendarGridBody,
  CalendarGridHeader,
  CalendarHeaderCell,
  Heading,
} from "react-aria-components";
import styled from "styled-components";
import type { Backup } from "../api/client";
import { dayOf } from "../words";

const Styled = styled(Calendar)`
  width: fit-content;
  header {
    display: flex;
    align-items: center;
    gap: 0.5rem;
  }
  h2 {
    flex: 1;
    text-align: center;
    font-size: 1rem;
  }
  header button {
    font: inherit;
    min-width: 2.2rem;
    min-height: 2.2rem;
    border: 1px solid var(--line-strong);
    border-radius: 5px;
    background: var(--raised);
    color: var(--ink);
    cursor: pointer;
  }
  header button[data-disabled] {
    opacity: 0.4;
  }
  th {
    color: var(--muted);
    font-weight: 600;
    font-size: 0.85rem;
  }
  td {
    padding: 1px;
  }
  .day {
    display: grid;
    place-content: center;
    width: 2.4rem;
    height: 2.4rem;
    border-radius: 5px;
    cursor: pointer;
    font-variant-numeric: tabular-nums;
  }
  .day[data-has] {
    background: var(--accent-soft);
    font-weight: 650;
    box-shadow: inset 0 -3px 0 var(--accent);
  }
  .day[data-unavailable],
  .day[data-outside-month] {
    color: var(--muted);
    cursor: default;
  }
  .day[data-outside-month] {
    visibility: hidden;
  }
  .day[data-selected] {
    background: var(--accent);
    color: var(--accent-ink);
  }
  @media (forced-colors: active) {
    .day[data-has] {
      border: 2px solid;
    }
    .day[data-selected] {
      forced-color-adjust: none;
      background: Highlight;
      color: HighlightText;
    }
  }
  .day[data-focus-visible],
  button[data-focus-visible] {
    outline: 2px solid var(--focus);
    outline-offset: 1px;
  }
`;

/** A calendar in which the days stand out of which there are backups; only those can be chosen. "" is no day. */
export default function BackupDays({
  backups,
  onChoose,
}: {
  backups: Backup[];
  onChoose: (day: string) => void;
}) {
  const days = new Set(backups.map((b) => dayOf(b.begun)));
  return (
    <Styled
      aria-label="Days with backups"
      isDateUnavailable={(d) => !days.has(toCalendarDate(d).toString())}
      maxValue={today(getLocalTimeZone())}
      onChange={(d) => onChoose(d && "calendar" in d ? toCalendarDate(d).toString() : "")}
    >
      <header>
        <Button slot="previous">◂</Button>
        <Heading />
        <Button slot="next">▸</Button>
      </header>
      <CalendarGrid>
        <CalendarGridHeader>{(d) => <CalendarHeaderCell>{d}</CalendarHeaderCell>}</CalendarGridHeader>
        <CalendarGridBody>
          {(d) => (
            <CalendarCell
              date={d}
              className="day"
              data-has={days.has(toCalendarDate(d).toString()) || undefined}
            />
          )}
        </CalendarGridBody>
      </CalendarGrid>
    </Styled>
  );
}
