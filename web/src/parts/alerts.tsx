import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import styled from "styled-components";
import { api, type Alert } from "../api/client";
import { queries } from "../api/queries";
import { count, when } from "../words";
import { Button } from "./controls";
import { Intended } from "./intended";
import { Failure, Muted, Panel } from "./layout";
import { Mark } from "./marks";

const Strip = styled.aside`
  background: var(--adjust-soft);
  border-bottom: 1px solid var(--line);
  & > p {
    max-width: 1240px;
    margin: 0 auto;
    padding: 0.45rem 1.6rem;
  }
  @media (max-width: 46rem) {
    & > p {
      padding: 0.45rem 1.1rem;
    }
    p > span:nth-of-type(2) {
      display: none; /* it stands on Home and under Backups, and the page is what was gone to */
    }
  }
`;

/** The tab of a server's page where an alert's answer is; none: its first one. */
const tabOf: Partial<Record<Alert["kind"], string>> = {
  rule: "backups",
  backup: "backups",
  hold: "backups",
  folders: "aside",
};

/** What needs a person: in brief at the top of each page, or whole. */
export function Alerts({ whole }: { whole?: boolean }) {
  const client = useQueryClient();
  const alerts = useQuery(queries.alerts());
  const trust = useMutation({
    mutationFn: api.trustClock,
    onSettled: () => client.invalidateQueries({ queryKey: ["alerts"] }),
  });
  const list = alerts.data ?? [];
  const first = list[0];
  if (!whole) {
    if (!first) return null;
    return (
      <Strip aria-label="Alerts">
        <p>
          <Mark
            of="adjust"
            quiet
          >
            {count(list.length, "thing needs you", "things need you")}
          </Mark>{" "}
          <span>{first.says}</span>{" "}
          {list.length === 1 && first.kind === "world" ? (
            <Link
              to="/servers/$server"
              params={{ server: first.server ?? "" }}
            >
              What to do
            </Link>
          ) : (
            <Link to="/backups">{list.length > 1 ? "All of them" : "What to do"}</Link>
          )}
        </p>
      </Strip>
    );
  }
  if (alerts.isError) return <Failure error={alerts.error} />;
  if (!first) return <Muted>{alerts.isPending ? "Looking …" : "Nothing needs you."}</Muted>;
  return (
    <Panel>
      <h2>{count(list.length, "thing needs you", "things need you")}</h2>
      <ul style={{ display: "grid", gap: "0.7rem", gridTemplateColumns: "minmax(0, 1fr)" }}>
        {list.map((a) => (
          <li key={`${a.kind} ${a.of}`}>
            <p>
              <Mark
                of="blocks"
                quiet
              >
                {a.kind}
              </Mark>{" "}
              {a.says}
            </p>
            <Muted>
              Since {when(a.since)}.{" "}
              {a.server ? (
                <Link
                  to="/servers/$server"
                  params={{ server: a.server }}
                  search={tabOf[a.kind] ? { tab: tabOf[a.kind] } : {}}
                >
                  {a.kind === "world"
                    ? "Its worlds"
                    : a.kind === "folders"
                      ? "See what is there"
                      : "Its backups and rules"}
                </Link>
              ) : (
                a.next
              )}
            </Muted>
            {a.kind === "world" && a.server && <Intended server={a.server} />}
            {a.kind === "clock" && (
              <Button
                isDisabled={trust.isPending}
                onPress={() => trust.mutate()}
              >
                The machine’s clock is right
              </Button>
            )}
          </li>
        ))}
      </ul>
    </Panel>
  );
}
