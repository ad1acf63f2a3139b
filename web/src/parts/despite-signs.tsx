import { Problem } from "../api/client";
import { Button } from "./controls";

/** After signs spoke against a person's word that a server is stopped: the way to insist. */
export function DespiteSigns({
  say,
}: {
  say: { error: unknown; isPending: boolean; mutate: (what: "sayStoppedDespiteSigns") => void };
}) {
  if (!(say.error instanceof Problem) || say.error.code !== "needs-choice") return null;
  return (
    <p>
      <Button
        look="grave"
        isDisabled={say.isPending}
        onPress={() => say.mutate("sayStoppedDespiteSigns")}
      >
        It is stopped, despite these signs
      </Button>
    </p>
  );
}
