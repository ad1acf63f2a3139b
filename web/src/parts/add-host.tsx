import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../api/client";
import { Choice } from "./choice";
import { Button } from "./controls";
import { Columns, Field, Lines } from "./form";
import { AcceptKey, shownKey } from "./host-key";
import { Failure, Panel } from "./layout";

/** How FTP is encrypted: begun on the connection, from the first byte, or not; "" is as the address says. */
type TLS = "" | "explicit" | "implicit" | "none";

const encrypted = "It is kept encrypted and never shown again.";

/** The form for an account on another machine; it asks only for what the address leaves open. */
export function AddHost({ onAdded }: { onAdded?: (name: string) => void }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const [user, setUser] = useState("");
  const [password, setPassword] = useState("");
  const [privateKey, setPrivateKey] = useState("");
  const [passphrase, setPassphrase] = useState("");
  const [tls, setTLS] = useState<TLS>("");
  const [roots, setRoots] = useState("");
  const ftp = /^ftp/i.test(address.trim());
  const add = useMutation({
    mutationFn: async (acceptKey: string) => {
      const signIn = {
        password: password || undefined,
        privateKey: (!ftp && privateKey) || undefined,
        passphrase: (!ftp && passphrase) || undefined,
      };
      await api.addHost({
        name,
        address,
        user: user || undefined,
        signIn,
        tls: (ftp && tls) || undefined,
        roots: (ftp && roots) || undefined,
        acceptKey: acceptKey || undefined,
      });
      await api.checkHost(name);
    },
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["hosts"] });
      onAdded?.(name);
      setTLS("");
      [setName, setAddress, setUser, setPassword, setPrivateKey, setPassphrase, setRoots].forEach((set) =>
        set(""),
      );
    },
    onSettled: () => client.invalidateQueries({ queryKey: ["hosts"] }),
  });
  const key = shownKey(add.error);
  return (
    <Panel>
      <h2>Add an account on another machine</h2>
      <Columns
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate("");
        }}
      >
        <Field
          label="Name of the host"
          value={name}
          onChange={setName}
          autoComplete="off"
          hint="a-z, 0-9 and hyphen"
        />
        <Field
          label="Address"
          value={address}
          onChange={setAddress}
          autoComplete="off"
          hint="As its provider shows it, such as sftp://user@host.example:22/folder or ftp://user@host.example"
        />
        {!address.includes("@") && (
          <Field
            label="User at the host"
            value={user}
            onChange={setUser}
            autoComplete="off"
          />
        )}
        <Field
          label="Password at the host"
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="off"
          hint={ftp ? encrypted : `Or a private key. ${encrypted}`}
        />
        {ftp ? (
          <>
            <Choice
              label="Encryption"
              all="as the address says"
              options={["explicit", "implicit", "none"]}
              value={tls}
              onChange={(way) => setTLS(way as TLS)}
            />
            {tls === "none" ? (
              <p className="wide">
                ! Everybody on the way can read the password and all files. Take this only where the host
                offers nothing else.
              </p>
            ) : (
              <Lines
                label="Roots that vouch for its certificate"
                value={roots}
                onChange={setRoots}
                hint="In PEM, if it has its own. Without them you are shown a certificate that nobody vouches for."
              />
            )}
          </>
        ) : (
          <Lines
            label="Private key"
            value={privateKey}
            onChange={setPrivateKey}
            hint="The text of the file that ssh-keygen has made, the one without .pub"
          />
        )}
        {!ftp && privateKey && (
          <Field
            label="Passphrase of the key"
            type="password"
            value={passphrase}
            onChange={setPassphrase}
            autoComplete="off"
            hint="If it has one"
          />
        )}
        <div className="wide">
          <Button
            look="main"
            type="submit"
            isDisabled={!name || !address || (!password && (ftp || !privateKey)) || add.isPending}
          >
            {add.isPending ? "Signing in and checking …" : "Sign in and check"}
          </Button>
        </div>
      </Columns>
      {add.isError && !key && <Failure error={add.error} />}
      {key && (
        <AcceptKey
          fingerprint={key}
          busy={add.isPending}
          onAccept={(accepted) => add.mutate(accepted)}
        />
      )}
    </Panel>
  );
}
