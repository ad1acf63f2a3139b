import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, type Host } from "../api/client";
import { bytes, count, when } from "../words";
import { Button } from "./controls";
import { Columns, Field } from "./form";
import { AcceptKey, shownKey } from "./host-key";
import { HostProvider } from "./host-provider";
import { Facts, Failure, Muted, Panel } from "./layout";

const yes = (has: boolean) => (has ? "✓ yes" : "✕ no");
const speed = (n: number) => (n ? `${bytes(n)} a second` : "not measured");

const Spaced = styled.div`
  display: grid;
  gap: 0.7rem;
  summary {
    cursor: pointer;
  }
  details[open] > summary {
    margin-bottom: 0.5rem;
  }
  ul {
    margin: 0;
    padding-left: 1.1rem;
    list-style: disc;
  }
`;

/** What a check has found of a host, and what it means for changeovers. */
function Findings({ host }: { host: Host }) {
  const f = host.found;
  if (!f) return <Muted>What can be done there is not known yet: check it.</Muted>;
  return (
    <>
      <ul>
        {host.says?.map((s) => (
          <li key={s}>{s}</li>
        ))}
      </ul>
      <details>
        <summary>Found {when(f.at)}</summary>
        <Facts>
          <dt>round trip</dt>
          <dd>{(f.roundTrip / 1e6).toFixed(1)} ms</dd>
          <dt>sending, fetching</dt>
          <dd>
            {speed(f.up)}, {speed(f.down)}
          </dd>
          <dt>connections at once</dt>
          <dd>at least {f.connections}</dd>
          <dt>arrives in</dt>
          <dd>{f.home}</dd>
          <dt>can be written</dt>
          <dd>{yes(!f.readOnly)}</dd>
          <dt>a file replaces another</dt>
          <dd>{yes(f.set.atomicReplace)}</dd>
          <dt>a full folder is renamed</dt>
          <dd>{yes(f.set.renameFolders)}</dd>
          <dt>writes survive a power cut</dt>
          <dd>{yes(f.set.sync)}</dd>
          <dt>capitals tell names apart</dt>
          <dd>{yes(f.set.exactCase)}</dd>
          <dt>free</dt>
          <dd>{f.free >= 0 ? bytes(f.free) : "not told"}</dd>
          <dt>files there belong to</dt>
          <dd>{f.set.account || "not told"}</dd>
          <dt>commands</dt>
          <dd>{f.set.commands ? f.programs.join(", ") || "✓ yes" : "✕ no"}</dd>
        </Facts>
      </details>
    </>
  );
}

/** Gives a host a new password, or accepts a key that has changed. */
function SignInAnew({ host }: { host: Host }) {
  const client = useQueryClient();
  const [password, setPassword] = useState("");
  const change = useMutation({
    mutationFn: (acceptKey: string) =>
      api.changeHost(host.name, { signIn: password ? { password } : {}, acceptKey: acceptKey || undefined }),
    onSuccess: () => {
      setPassword("");
      return client.invalidateQueries({ queryKey: ["hosts"] });
    },
  });
  return (
    <details>
      <summary>Sign in with another password</summary>
      <Columns
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate("");
        }}
      >
        <Field
          label={`Password of ${host.user ?? ""} at the host`}
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="off"
          hint="It is tried before it is kept, encrypted."
        />
        <div className="wide">
          <Button
            type="submit"
            isDisabled={!password || change.isPending}
          >
            Try it and keep it
          </Button>
        </div>
      </Columns>
      {change.isError && <Failure error={change.error} />}
    </details>
  );
}

/** A host: where it is, what can be done there, and what may be done with it. */
export function HostPanel({ host }: { host: Host }) {
  const client = useQueryClient();
  const settled = () => client.invalidateQueries({ queryKey: ["hosts"] });
  const check = useMutation({ mutationFn: () => api.checkHost(host.name), onSettled: settled });
  const remove = useMutation({ mutationFn: () => api.removeHost(host.name), onSettled: settled });
  const accept = useMutation({
    mutationFn: (acceptKey: string) => api.changeHost(host.name, { acceptKey }),
    onSuccess: () => {
      check.reset();
      return settled();
    },
  });
  const elsewhere = host.kind !== "local";
  return (
    <Panel aria-label={host.name}>
      <h2>{host.name}</h2>
      <Facts>
        <dt>where</dt>
        <dd>
          {elsewhere
            ? `${host.kind === "ftp" ? "ftp://" : ""}${host.user ?? ""}@${host.address ?? ""}${host.port ? `:${host.port}` : ""}${host.folder ?? ""}`
            : "this service's own machine"}
        </dd>
        {host.fingerprint && (
          <>
            <dt>{host.kind === "ftp" ? "certificate" : "key"}</dt>
            <dd style={{ overflowWrap: "anywhere" }}>{host.fingerprint}</dd>
          </>
        )}
        {host.tls && (
          <>
            <dt>encrypted</dt>
            <dd>
              {host.tls === "none" ? "✕ no" : `✓ TLS, ${host.tls}`}
              {host.tls !== "none" && !host.fingerprint && "; its certificate is vouched for"}
            </dd>
          </>
        )}
        {elsewhere && (
          <>
            <dt>signed in with</dt>
            <dd>{host.signIn?.join(", ") || "nothing is kept"}</dd>
          </>
        )}
        <dt>servers</dt>
        <dd>{count(host.servers, "server", "servers")}</dd>
      </Facts>
      {host.trouble && <Failure error={new Error(host.trouble)} />}
      {elsewhere && (
        <Spaced style={{ marginTop: "0.7rem" }}>
          <Findings host={host} />
          <p style={{ display: "flex", gap: "0.6rem", flexWrap: "wrap" }}>
            <Button
              isDisabled={check.isPending}
              onPress={() => check.mutate()}
              aria-label={`Check ${host.name}`}
            >
              {check.isPending ? "Checking, some seconds …" : "Check what can be done"}
            </Button>
            {host.servers === 0 && (
              <Button
                look="grave"
                isDisabled={remove.isPending}
                onPress={() => remove.mutate()}
                aria-label={`Remove ${host.name}`}
              >
                Remove
              </Button>
            )}
          </p>
          {[check, remove, accept].map(
            (m, i) =>
              m.isError && (
                <Failure
                  key={i}
                  error={m.error}
                />
              ),
          )}
          {shownKey(check.error) && (
            <AcceptKey
              fingerprint={shownKey(check.error)}
              busy={accept.isPending}
              onAccept={(key) => accept.mutate(key)}
            />
          )}
          <SignInAnew host={host} />
          <HostProvider host={host} />
        </Spaced>
      )}
    </Panel>
  );
}
