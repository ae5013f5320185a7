import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, type Engine } from "../api";
import { timeOf } from "../format";
import { Asked } from "../parts/asked";
import { Benches } from "./benches";
import { Area, Button, Code, ErrorNote, Mark, Row, Sheet, Table, Text } from "../parts/sheet";

const DOES: Record<Engine["does"], string> = {
  transcribe: "transcribes",
  speak: "speaks",
  answer: "answers",
  summarize: "summarizes",
  translate: "translates",
  draw: "draws",
  review: "reviews answers",
};

const ASKED: Record<Engine["does"], string> = {
  transcribe: "A recording",
  speak: "Words to speak",
  answer: "A question",
  summarize: "A text to shorten",
  translate: "A text to translate",
  draw: "What to draw",
  review: "An answer to review",
};

const Short = styled.td`
  white-space: nowrap;
`;

/** Outside engines: what they did and cost, one question to try them, and their connector files. */
export function EnginesPage() {
  const engines = useQuery({
    queryKey: ["engines"],
    queryFn: api.engines,
    refetchInterval: 5_000,
  });
  const [chosen, setChosen] = useState("");
  const shown = engines.data?.find((each) => each.name === chosen);
  return (
    <Sheet>
      <h2>Engines</h2>
      <p>
        Outside services that hear, speak or answer, connected by a file. An assistant names those
        that it asks, in order; the first that works answers.
      </p>
      {engines.error && <ErrorNote role="alert">{engines.error.message}</ErrorNote>}
      {engines.data?.length === 0 && <p>None is connected yet.</p>}
      {!!engines.data?.length && (
        <Table>
          <thead>
            <tr>
              <th scope="col">Engine</th>
              <th scope="col">Does</th>
              <th scope="col">Requests today</th>
              <th scope="col">Failed</th>
              <th scope="col">Mean latency</th>
              <th scope="col">Cost today</th>
              <th scope="col">Last error</th>
            </tr>
          </thead>
          <tbody>
            {engines.data.map((each) => (
              <EngineRow key={each.name} engine={each} choose={() => setChosen(each.name)} />
            ))}
          </tbody>
        </Table>
      )}
      {shown && <Details key={shown.name} engine={shown} />}
      <Benches />
      <Connect />
    </Sheet>
  );
}

function EngineRow({ engine, choose }: { engine: Engine; choose: () => void }) {
  const today = engine.days[0];
  return (
    <tr>
      <Short>
        <Button onPress={choose}>{engine.name}</Button>
      </Short>
      <Short>{DOES[engine.does]}</Short>
      <td>{today?.asked ?? 0}</td>
      <td>
        <Mark $kind={today?.failed ? "bad" : "plain"}>{today?.failed ?? 0}</Mark>
      </td>
      <td>{today ? `${Math.round((1000 * today.seconds) / Math.max(1, today.asked))} ms` : "–"}</td>
      <td>{money(engine, today?.cost ?? 0)}</td>
      <td>
        {engine.paused_until && (
          <Mark $kind="bad">paused until {timeOf(engine.paused_until)} </Mark>
        )}
        {engine.last_error_at ? `${timeOf(engine.last_error_at)}: ${engine.last_error}` : "none"}
      </td>
    </tr>
  );
}

function money(engine: Engine, cost: number): string {
  const most = engine.daily_budget ? ` of ${engine.daily_budget}` : "";
  return `${cost.toFixed(4)}${most} ${engine.currency}`;
}

function Details({ engine }: { engine: Engine }) {
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const [to, setTo] = useState(engine.languages[0] ?? "");
  const trying = useMutation({ mutationFn: () => api.tryEngine(engine.name, text, to) });
  const deleting = useMutation({
    mutationFn: () => api.deleteEngine(engine.name),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["engines"] }),
  });
  const missing = useQuery({ queryKey: ["secrets"], queryFn: api.secrets });
  const there = new Set(missing.data?.map((each) => each.name));
  const unknown = engine.secrets.filter((each) => missing.data && !there.has(each));
  return (
    <>
      <h3>{engine.name}</h3>
      {unknown.length > 0 && (
        <ErrorNote role="alert">
          Not stored yet: {unknown.join(", ")}. Store it under Keys and events.
        </ErrorNote>
      )}
      {engine.does !== "transcribe" && (
        <Row>
          <Text label={ASKED[engine.does]} value={text} onChange={setText} />
          {engine.does === "translate" && (
            <Text label="Into the language" value={to} onChange={setTo} placeholder="de" />
          )}
          <Button onPress={() => trying.mutate()} isDisabled={!text || trying.isPending}>
            Ask it once
          </Button>
        </Row>
      )}
      {engine.does === "transcribe" && (
        <p>
          Try it with a recording: <code>fond-echo engine try {engine.name} --sound note.ogg</code>
        </p>
      )}
      {trying.error && <ErrorNote role="alert">{trying.error.message}</ErrorNote>}
      {trying.data && (
        <>
          {trying.data.sound && (
            <audio
              controls
              aria-label="What it spoke"
              src={`data:audio/ogg;base64,${trying.data.sound}`}
            />
          )}
          {trying.data.picture && (
            <img
              alt={text}
              src={`data:${trying.data.picture_type};base64,${trying.data.picture}`}
            />
          )}
          {!trying.data.sound && !trying.data.picture && trying.data.text && (
            <p>“{trying.data.text}”</p>
          )}
          <Asked asked={[trying.data.asked]} />
        </>
      )}
      <h4>Connector file</h4>
      <Code tabIndex={0}>{engine.connector}</Code>
      <Row>
        <Button onPress={() => deleting.mutate()}>Disconnect {engine.name}</Button>
      </Row>
      {deleting.error && <ErrorNote role="alert">{deleting.error.message}</ErrorNote>}
    </>
  );
}

function Connect() {
  const queries = useQueryClient();
  const [file, setFile] = useState("");
  const [base, setBase] = useState("");
  const name = /^engine:\s*([\w-]+)/m.exec(file)?.[1] ?? "";
  const putting = useMutation({
    mutationFn: () => api.putEngine(name, file, base),
    onSuccess: () => {
      setFile("");
      return queries.invalidateQueries({ queryKey: ["engines"] });
    },
  });
  return (
    <>
      <h3>Connect one</h3>
      <Area label="Connector file" value={file} onChange={setFile} rows={8} />
      <Row>
        <Text label="Its base address" value={base} onChange={setBase} placeholder="https://…" />
        <Button onPress={() => putting.mutate()} isDisabled={!name || putting.isPending}>
          {name ? `Connect ${name}` : "Connect"}
        </Button>
      </Row>
      {putting.error && <ErrorNote role="alert">{putting.error.message}</ErrorNote>}
    </>
  );
}
