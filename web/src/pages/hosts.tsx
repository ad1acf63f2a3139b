import { useQuery } from "@tanstack/react-query";
import { queries } from "../api/queries";
import { AddHost } from "../parts/add-host";
import { HostPanel } from "../parts/host";
import { Answer, Head, Muted, Page } from "../parts/layout";

/** The machines and accounts where servers live. */
export function Hosts() {
  const hosts = useQuery(queries.hosts());
  return (
    <Page>
      <Head>
        <h1>Hosts</h1>
      </Head>
      <Muted>The machines and accounts where servers live.</Muted>
      <Answer
        of={hosts}
        waiting="Reading which hosts are known"
      >
        {(list) =>
          list.map((h) => (
            <HostPanel
              key={h.name}
              host={h}
            />
          ))
        }
      </Answer>
      <AddHost />
    </Page>
  );
}
