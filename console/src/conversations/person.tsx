import { useMutation, useQueryClient } from "@tanstack/react-query";
import styled from "styled-components";
import { api, type Conversation } from "../api";
import { Button, Row, Text, ErrorNote } from "../parts/sheet";
import { colour } from "../theme";
import { draftOf, keepDraft, useDraft } from "./drafts";

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
  const words = useDraft(about.id);
  const queries = useQueryClient();
  const again = (id: string) => {
    void queries.invalidateQueries({ queryKey: ["conversations"] });
    void queries.invalidateQueries({ queryKey: ["conversation", id] });
    void queries.invalidateQueries({ queryKey: ["turns", id] });
  };
  const say = useMutation({
    mutationFn: ({ id, text }: { id: string; text: string }) => api.sayTo(id, text),
    onSuccess: (_, { id, text }) => {
      // What was written meanwhile stays.
      if (draftOf(id) === text) keepDraft(id, "");
      again(id);
    },
  });
  const hand = useMutation({
    mutationFn: ({ id, by }: { id: string; by: string }) => api.setAnswering(id, by),
    onSuccess: (_, { id }) => again(id),
  });
  const failed = [say, hand].find((each) => each.error && each.variables.id === about.id);
  const error = failed?.error;
  const person = about.answering === "operator";
  return (
    <Strip
      aria-label="Who answers"
      onSubmit={(event) => {
        event.preventDefault();
        if (words.trim()) say.mutate({ id: about.id, text: words });
      }}
    >
      <p>
        {person ? "An operator answers here: write as yourself." : "The assistant answers here."}
      </p>
      <Row>
        {person && (
          <>
            <Text
              label={`Your words to ${about.contact_name}`}
              value={words}
              onChange={(text) => keepDraft(about.id, text)}
            />
            <Button type="submit" isDisabled={say.isPending || !words.trim()}>
              Send
            </Button>
          </>
        )}
        <Button
          onPress={() => hand.mutate({ id: about.id, by: person ? "assistant" : "operator" })}
          isDisabled={hand.isPending}
        >
          {person ? "Give it back to the assistant" : "Answer it yourself"}
        </Button>
      </Row>
      {error && <ErrorNote role="alert">{error.message}</ErrorNote>}
    </Strip>
  );
}
