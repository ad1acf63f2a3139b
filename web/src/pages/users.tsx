import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, type User } from "../api/client";
import { queries } from "../api/queries";
import { Button } from "../parts/controls";
import { Columns, Field } from "../parts/form";
import { Answer, Failure, Head, Muted, Page, Panel, Picture, Table } from "../parts/layout";
import { when } from "../words";

const Sides = styled.div`
  display: grid;
  gap: 1.2rem;
  grid-template-columns: repeat(auto-fit, minmax(min(24rem, 100%), 1fr));
  align-items: start;
`;

const Who = styled.span`
  display: flex;
  gap: 0.7rem;
  align-items: center;
`;

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
                  <Who>
                    <Picture
                      size={28}
                      of={u.name}
                    />
                    <b>{u.name}</b>
                  </Who>
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

function SetPassword({ users, me }: { users: User[]; me: string }) {
  const client = useQueryClient();
  const [present, setPresent] = useState("");
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const known = users.some((u) => u.name.toLowerCase() === name.toLowerCase());
  const own = name.toLowerCase() === me.toLowerCase();
  const save = useMutation({
    mutationFn: () =>
      known ? api.setPassword(name, password, own ? present : undefined) : api.addUser(name, password),
    onSuccess: () => {
      setPassword("");
      setPresent("");
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
          hint={known ? "is there already: this sets another password" : "a new name adds a user"}
        />
        {own && (
          <Field
            label="Your current password"
            type="password"
            value={present}
            onChange={setPresent}
            autoComplete="current-password"
          />
        )}
        <Field
          label="New password"
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="new-password"
          hint="At least 10 characters"
        />
        <div className="wide">
          <Button
            look="main"
            type="submit"
            isDisabled={!name || password.length < 10 || (own && !present) || save.isPending}
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
  const me = useQuery(queries.me());
  return (
    <Page>
      <Head>
        <h1>Users</h1>
      </Head>
      <Muted>
        Who may sign in, here and with the command line. Every user may do everything; who did what stands
        with each changeover.
      </Muted>
      <Answer
        of={users}
        waiting="Reading who may sign in"
      >
        {(list) => (
          <Sides>
            <UserTable users={list} />
            <SetPassword
              users={list}
              me={me.data?.name ?? ""}
            />
          </Sides>
        )}
      </Answer>
    </Page>
  );
}
