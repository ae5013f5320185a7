import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button, FieldError, Form, Input, Label, TextField } from "react-aria-components";
import styled from "styled-components";
import { api } from "./api";
import { colour, font } from "./theme";

const Sheet = styled.main`
  max-width: 26rem;
  margin: 14vh auto 0;
  padding: 2rem 2.2rem 2.2rem;
  background: ${colour.sheet};
  border-top: 6px solid ${colour.ink};
  box-shadow: 0 14px 40px -22px #0009;
  h1 {
    margin: 0 0 0.2rem;
    font: 600 1.7rem/1.15 ${font.book};
  }
  p {
    margin: 0 0 1.4rem;
    color: ${colour.faded};
  }
  label {
    display: block;
    font-weight: 600;
    margin-bottom: 0.3rem;
  }
  input {
    width: 100%;
    font: inherit;
    padding: 0.5rem 0.6rem;
    color: inherit;
    background: ${colour.sea};
    border: 1px solid ${colour.faded};
  }
`;

const Go = styled(Button)`
  margin-top: 1.1rem;
  padding: 0.5rem 1.3rem;
  border: 0;
  cursor: pointer;
  background: ${colour.ink};
  color: ${colour.sheet};
  font-weight: 600;
`;

const ErrorNote = styled(FieldError)`
  display: block;
  margin-top: 0.5rem;
  color: ${colour.buoy};
`;

export function SignIn({ problem }: { problem: string }) {
  const [key, setKey] = useState("");
  const queries = useQueryClient();
  const entering = useMutation({
    mutationFn: api.signIn,
    onSuccess: (me) => queries.setQueryData(["me"], me),
  });
  const told = entering.error?.message ?? problem;
  return (
    <Sheet>
      <h1>Fond Echo</h1>
      <p>The log of what was heard and said. The start command prints a key.</p>
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          entering.mutate(key.trim());
        }}
      >
        <TextField
          value={key}
          onChange={setKey}
          type="password"
          autoComplete="current-password"
          isRequired
          isInvalid={Boolean(told)}
          validationBehavior="aria"
          autoFocus
        >
          <Label>Key</Label>
          <Input placeholder="fe-…" />
          {told && <ErrorNote>{told}</ErrorNote>}
        </TextField>
        <Go type="submit" isDisabled={!key.trim() || entering.isPending}>
          Sign in
        </Go>
      </Form>
    </Sheet>
  );
}
