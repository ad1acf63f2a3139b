import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api } from "../api/client";
import { Button } from "./controls";
import { Failure } from "./layout";

/** Says that the world that a server runs is the one that it should run: the alert ends. */
export function Intended({ server }: { server: string }) {
  const client = useQueryClient();
  const intend = useMutation({
    mutationFn: () => api.intendWorld(server),
    onSettled: () =>
      Promise.all([["alerts"], ["servers"]].map((queryKey) => client.invalidateQueries({ queryKey }))),
  });
  return (
    <>
      <Button
        isDisabled={intend.isPending}
        onPress={() => intend.mutate()}
      >
        This is intended
      </Button>
      {intend.isError && <Failure error={intend.error} />}
    </>
  );
}
