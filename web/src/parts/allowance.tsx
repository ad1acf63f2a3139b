import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "./controls";
import { Columns, Field } from "./form";
import { Failure } from "./layout";

/** How much the backups of a server, or of all together, may take. */
export function Allowance({ server }: { server?: string }) {
  const client = useQueryClient();
  const limits = useQuery(queries.limits());
  const [gigabytes, setGigabytes] = useState<string>();
  const set = useMutation({
    mutationFn: () => {
      const all = limits.data ?? {};
      const most = Math.round((Number(gigabytes) || 0) * 1e9);
      if (!server) return api.setLimits({ ...all, bytes: most });
      return api.setLimits({
        ...all,
        servers: { ...all.servers, [server]: { ...all.servers?.[server], bytes: most } },
      });
    },
    onSuccess: () => {
      setGigabytes(undefined);
      return client.invalidateQueries({ queryKey: ["limits"] });
    },
  });
  if (!limits.data) return null;
  const stands = server ? limits.data.servers?.[server] : limits.data;
  const now = stands?.bytes ? String(stands.bytes / 1e9) : "";
  return (
    <Columns
      style={{ marginTop: "1.1rem", maxWidth: "40rem" }}
      onSubmit={(e) => {
        e.preventDefault();
        set.mutate();
      }}
    >
      <Field
        label={`${server ? "All its rules" : "All servers"} together, at most so many GB`}
        hint="Left empty: any size. The oldest go first; what is pinned, made by hand or the last good one never goes."
        value={gigabytes ?? now}
        onChange={setGigabytes}
        inputMode="decimal"
      />
      {gigabytes !== undefined && gigabytes !== now && (
        <div>
          <Button
            type="submit"
            isDisabled={set.isPending}
          >
            Set it
          </Button>
        </div>
      )}
      {set.isError && <Failure error={set.error} />}
    </Columns>
  );
}
