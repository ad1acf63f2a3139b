import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type User } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
import { Columns, Field } from "../parts/form";
import { Failure, Head, Muted, Page, Panel, Table } from "../parts/layout";
import { when } from "../words";

function UserTable({ users }: { users: User[] }) {
  const client = useQueryClient();
  const me = useQuery(queries.me());
  const remove = useMutation({
    mutationFn: api.removeUser,
    onSettled: () => client.invalidateQueries({ queryKey: ["users"] }),
  });
  return (
    <>
      {remove.isError && <Failure error={remove.error} />}
      <Panel>
        <Table>
          <thead>
            <tr>
              <th>User</th>
              <th>Since</th>
              <th>
                <span className="unseen">Remove</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {users.map((u) => (
              <tr key={u.name}>
                <td>
                  <b>{u.name}</b>
                </td>
                <td>{when(u.createdAt)}</td>
                <td style={{ textAlign: "right" }}>
                  {u.name === me.data?.name ? (
                    <Muted as="span">you</Muted>
                  ) : (
                    <Button
                      look="grave"
                      isDisabled={remove.isPending}
                      onPress={() => remove.mutate(u.name)}
                      aria-label={`Remove ${u.name}`}
                    >
                      Remove
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      </Panel>
    </>
  );
}

function SetPassword({ users }: { users: User[] }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const known = users.some((u) => u.name.toLowerCase() === name.toLowerCase());
  const save = useMutation({
    mutationFn: () => (known ? api.setPassword(name, password) : api.addUser(name, password)),
    onSuccess: () => {
      setPassword("");
      return client.invalidateQueries({ queryKey: ["users"] });
    },
  });
  return (
    <Panel>
      <h2>Add a user, or set a password</h2>
      <Columns
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Field
          label="User name"
          value={name}
          onChange={setName}
          autoComplete="off"
        />
        <Field
          label="New password"
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="new-password"
          hint="At least 10 characters. Every user may do everything."
        />
        <div className="wide">
          <Button
            look="main"
            type="submit"
            isDisabled={!name || password.length < 10 || save.isPending}
          >
            {known ? "Set the password and end their sessions" : "Add the user"}
          </Button>
        </div>
      </Columns>
      {save.isError && <Failure error={save.error} />}
      {save.isSuccess && (
        <p
          aria-live="polite"
          style={{ marginTop: "0.6rem" }}
        >
          Saved.
        </p>
      )}
    </Panel>
  );
}

/** Who may sign in. Every user may do everything. */
export function Users() {
  const users = useQuery(queries.users());
  return (
    <Page>
      <Head>
        <h1>Users</h1>
      </Head>
      {users.isError && <Failure error={users.error} />}
      <UserTable users={users.data ?? []} />
      <SetPassword users={users.data ?? []} />
    </Page>
  );
}
