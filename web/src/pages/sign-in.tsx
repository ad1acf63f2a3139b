import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { Form, Input, Label, TextField } from "react-aria-components";
import styled from "styled-components";
import { api } from "../api/client";
import { Button } from "../parts/controls";
import { Emblem } from "../parts/emblem";
import { Failure, Muted } from "../parts/layout";

const Whole = styled.main`
  min-height: 100vh;
  display: grid;
  place-content: center;
  padding: 1.5rem;
  form {
    width: min(24rem, 90vw);
    background: var(--sheet);
    border: 1px solid var(--line);
    border-radius: 8px;
    padding: 1.6rem;
    display: grid;
    gap: 0.9rem;
    box-shadow: var(--shadow);
  }
  label {
    font-weight: 600;
    display: block;
    margin-bottom: 0.2rem;
  }
  input {
    font: inherit;
    width: 100%;
    padding: 0.45rem 0.6rem;
    border: 1px solid var(--line-strong);
    border-radius: 5px;
    background: var(--raised);
    color: var(--ink);
  }
  p[aria-hidden] {
    display: flex;
    justify-content: space-between;
  }
  img {
    width: 34px;
    vertical-align: -8px;
    margin-right: 0.5rem;
  }
`;

export function SignIn() {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const client = useQueryClient();
  const navigate = useNavigate();
  const signIn = useMutation({
    mutationFn: () => api.signIn(name, password),
    onSuccess: async () => {
      await client.resetQueries();
      await navigate({ to: "/" });
    },
  });
  return (
    <Whole>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          signIn.mutate();
        }}
      >
        <p aria-hidden="true">
          {["Fen Garden", "Winter Beds", "Old Quay", "Frostfall", "Alder Carr", "Reed Beds"].map((of) => (
            <Emblem
              key={of}
              of={of}
              size={46}
            />
          ))}
        </p>
        <h1>
          <img
            src="/mark.svg"
            alt=""
          />
          Reshard
        </h1>
        <Muted>
          Worlds of game servers: every mismatch seen before the server stops, every step undone on request.
        </Muted>
        <TextField
          value={name}
          onChange={setName}
          isRequired
          name="name"
          autoComplete="username"
        >
          <Label>Name</Label>
          <Input />
        </TextField>
        <TextField
          value={password}
          onChange={setPassword}
          isRequired
          type="password"
          name="password"
          autoComplete="current-password"
        >
          <Label>Password</Label>
          <Input />
        </TextField>
        {signIn.isError && <Failure error={signIn.error} />}
        <Button
          look="main"
          type="submit"
          isDisabled={signIn.isPending}
        >
          {signIn.isPending ? "Signing in …" : "Sign in"}
        </Button>
        <Muted>
          No account yet? Whoever has one makes another on the page Users, or with{" "}
          <code>reshard users add NAME</code>.
        </Muted>
      </Form>
    </Whole>
  );
}
