import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Radio } from "react-aria-components";
import { useNavigate } from "react-router";
import { api } from "../api";
import { Area, Button, ErrorNote, Options, Row, Sheet, Text } from "../parts/sheet";

const KINDS = {
  page: "a public page",
  http: "for programs",
  chat: "a chat network",
  phone: "the telephone",
} as const;
type Kind = keyof typeof KINDS;

/** A new channel: what it is, who answers there, and how its network or carrier is reached. */
export function NewChannel() {
  const assistants = useQuery({ queryKey: ["assistants"], queryFn: api.assistants });
  const published = assistants.data?.filter((each) => each.live) ?? [];
  const [name, setName] = useState("");
  const [kind, setKind] = useState<Kind>("page");
  const [assistant, setAssistant] = useState("");
  const [connector, setConnector] = useState("");
  const [base, setBase] = useState("");
  const queries = useQueryClient();
  const go = useNavigate();
  const answering = assistant || published[0]?.name || "";
  const described = kind === "chat" || kind === "phone";
  const making = useMutation({
    mutationFn: () =>
      api.putChannel(name, {
        kind,
        assistant: answering,
        connector: described ? connector : "",
        values: base ? { base } : {},
      }),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["channels"] });
      void go(`/channels/${name}`);
    },
  });
  return (
    <Sheet>
      <h2>A new channel</h2>
      <Row>
        <Text label="Name" value={name} onChange={setName} placeholder="front-door" />
      </Row>
      <Options value={kind} onChange={(value) => setKind(value as Kind)} aria-label="What it is">
        <span>What it is</span>
        {Object.entries(KINDS).map(([value, what]) => (
          <Radio key={value} value={value}>
            {what}
          </Radio>
        ))}
      </Options>
      {published.length === 0 && <p>No assistant is published yet; publish one first.</p>}
      <Options value={answering} onChange={setAssistant} aria-label="Who answers">
        <span>Who answers</span>
        {published.map((each) => (
          <Radio key={each.name} value={each.name}>
            {each.name}
          </Radio>
        ))}
      </Options>
      {described && (
        <>
          <Area label="Connector file" value={connector} onChange={setConnector} rows={12} />
          {kind === "chat" && (
            <Row>
              <Text
                label="The network's base address"
                value={base}
                onChange={setBase}
                placeholder="https://…"
              />
            </Row>
          )}
        </>
      )}
      <Row>
        <Button
          onPress={() => making.mutate()}
          isDisabled={!name || !answering || (described && !connector) || making.isPending}
        >
          Make it
        </Button>
      </Row>
      {making.error && <ErrorNote role="alert">{making.error.message}</ErrorNote>}
    </Sheet>
  );
}
