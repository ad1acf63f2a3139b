import { Problem } from "../api/client";
import { Button } from "./controls";
import { Panel } from "./layout";

/** The fingerprint of a key or certificate that a host has shown and nobody has accepted, out of a problem; "" for another. */
export function shownKey(error: unknown): string {
  if (!(error instanceof Problem)) return "";
  if (error.code === "needs-choice") return error.options[0] ?? "";
  return /shows another (?:key|certificate) \(([^)]+)\)/.exec(error.message)?.[1] ?? "";
}

/** Asks a person whether the key or certificate that a host shows is the right one. */
export function AcceptKey({
  fingerprint,
  busy,
  onAccept,
}: {
  fingerprint: string;
  busy: boolean;
  onAccept: (fingerprint: string) => void;
}) {
  const thing = fingerprint.startsWith("SHA256:") ? "key" : "certificate";
  return (
    <Panel
      aria-label={`The host's ${thing}`}
      style={{ marginTop: "0.8rem", display: "grid", gap: "0.6rem", justifyItems: "start" }}
    >
      <h2>Is this the host’s {thing}?</h2>
      <p>
        <code style={{ overflowWrap: "anywhere" }}>{fingerprint}</code>
      </p>
      <p>
        Compare it with the fingerprint that the host’s owner gives. If it is another, do not accept it:
        somebody may stand between you and the host. Nothing has been sent to it yet.
      </p>
      <Button
        look="main"
        isDisabled={busy}
        onPress={() => onAccept(fingerprint)}
      >
        It is the same: accept it
      </Button>
    </Panel>
  );
}
