import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, type Conversation } from "../api";
import { Button, Row, Text, ErrorNote } from "../parts/sheet";
import { colour } from "../theme";

const Strip = styled.form`
  position: sticky;
  bottom: 0;
  margin-top: 1.4rem;
  padding: 0.7rem 0 0.9rem;
  background: ${colour.sheet};
  border-top: 3px double ${colour.rule};
  p {
    margin: 0 0 0.4rem;
    color: ${colour.faded};
  }
  input {
    width: min(26rem, 60vw);
  }
`;

/** Who answers a conversation: the assistant, or a person who writes here. */
export function Person({ about }: { about: Conversation }) {
  const [words, setWords] = useState("");
  const queries = useQueryClient();
  const again = () => {
    void queries.invalidateQueries({ queryKey: ["conversations"] });
    void queries.invalidateQueries({ queryKey: ["turns", about.id] });
  };
  const say = useMutation({
    mutationFn: () => api.sayTo(about.id, words),
    onSuccess: () => {
      setWords("");
      again();
    },
  });
  const hand = useMutation({
    mutationFn: (by: string) => api.setAnswering(about.id, by),
    onSuccess: again,
  });
  const person = about.answering === "person";
  return (
    <Strip
      aria-label="Who answers"
      onSubmit={(event) => {
        event.preventDefault();
        if (words.trim()) say.mutate();
      }}
    >
      <p>{person ? "A person answers here: write as yourself." : "The assistant answers here."}</p>
      <Row>
        {person && (
          <>
            <Text label={`Your words to ${about.contact_name}`} value={words} onChange={setWords} />
            <Button type="submit" isDisabled={say.isPending || !words.trim()}>
              Send
            </Button>
          </>
        )}
        <Button
          onPress={() => hand.mutate(person ? "assistant" : "person")}
          isDisabled={hand.isPending}
        >
          {person ? "Give it back to the assistant" : "Answer it yourself"}
        </Button>
      </Row>
      {(say.error ?? hand.error) && (
        <ErrorNote role="alert">{(say.error ?? hand.error)?.message}</ErrorNote>
      )}
    </Strip>
  );
}
