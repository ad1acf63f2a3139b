import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Host } from "../api/client";
import { Button } from "./controls";
import { Columns, Field, Lines } from "./form";
import { Facts, Failure, Muted } from "./layout";

/** A hosting provider's own interface, which starts and stops servers whose files are reached in another way. */
export function HostProvider({ host }: { host: Host }) {
  const client = useQueryClient();
  const [description, setDescription] = useState("");
  const [origin, setOrigin] = useState(host.provider?.origin ?? "");
  const [user, setUser] = useState(host.provider?.user ?? "");
  const [secret, setSecret] = useState("");
  const [machine, setMachine] = useState("");
  const [isPrivate, setPrivate] = useState(host.provider?.private ?? false);
  const onSettled = () => client.invalidateQueries({ queryKey: ["hosts"] });
  const set = useMutation({
    mutationFn: (body: Parameters<typeof api.setProvider>[1]) => api.setProvider(host.name, body),
    onSuccess: () => setSecret(""),
    onSettled,
  });
  const tried = useMutation({ mutationFn: () => api.tryProvider(host.name, machine) });
  return (
    <details>
      <summary>
        {host.provider ? "The provider’s own interface" : "Has its provider an interface of its own?"}
      </summary>
      {host.provider && (
        <>
          <Facts>
            <dt>provider</dt>
            <dd>{host.provider.title ?? "not readable"}</dd>
            <dt>at</dt>
            <dd>{host.provider.origin}</dd>
          </Facts>
          {host.provider.trouble && <Failure error={new Error(host.provider.trouble)} />}
          <Columns
            onSubmit={(e) => {
              e.preventDefault();
              tried.mutate();
            }}
          >
            <Field
              label="What the provider calls the server"
              value={machine}
              onChange={setMachine}
              autoComplete="off"
              hint="Looking changes nothing."
            />
            <div className="wide">
              <Button
                type="submit"
                isDisabled={!machine || tried.isPending}
              >
                {tried.isPending ? "Looking …" : "Look whether it can be seen"}
              </Button>
            </div>
          </Columns>
          {tried.isError && <Failure error={tried.error} />}
          <ul aria-live="polite">
            {tried.data?.map((t) => (
              <li key={t.what}>
                {t.ok ? "✓" : "✕"} {t.what}: {t.seen} {t.next && <Muted as="span">{t.next}</Muted>}
              </li>
            ))}
          </ul>
        </>
      )}
      <Columns
        style={{ marginTop: "1.2rem" }}
        onSubmit={(e) => {
          e.preventDefault();
          set.mutate({
            description,
            origin,
            user: user || undefined,
            secret: secret || undefined,
            private: isPrivate,
          });
        }}
      >
        <div className="wide">
          <Lines
            label="Provider description"
            value={description}
            onChange={setDescription}
            hint={
              host.provider
                ? "Another YAML document that tells how the interface is spoken to, in place of the one that is kept"
                : "The YAML document that tells how the interface is spoken to"
            }
          />
        </div>
        <Field
          label="Origin"
          value={origin}
          onChange={setOrigin}
          autoComplete="off"
          hint="Scheme, host and port, such as https://gate.example. Nothing is sent anywhere else."
        />
        <Field
          label="User at the provider"
          value={user}
          onChange={setUser}
          autoComplete="off"
        />
        <Field
          label="Password, key or token"
          type="password"
          value={secret}
          onChange={setSecret}
          autoComplete="off"
          hint="It is kept encrypted and never shown again."
        />
        <label className="wide">
          <input
            type="checkbox"
            checked={isPrivate}
            onChange={(e) => setPrivate(e.target.checked)}
          />{" "}
          The origin may be in a private network or on the service’s machine
        </label>
        <div
          className="wide"
          style={{ display: "flex", gap: "0.6rem", flexWrap: "wrap" }}
        >
          <Button
            type="submit"
            isDisabled={!description || !origin || set.isPending}
          >
            Keep it
          </Button>
          {host.provider && (
            <Button
              look="grave"
              isDisabled={set.isPending}
              onPress={() => set.mutate({})}
            >
              Forget it
            </Button>
          )}
        </div>
      </Columns>
      {set.isError && <Failure error={set.error} />}
    </details>
  );
}
