import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Disclosure, DisclosurePanel, Heading, Button as Press } from "react-aria-components";
import { Link, useParams } from "react-router";
import styled from "styled-components";
import { api, type Clip, type Delivery, type Stage, type TurnDetail } from "../api";
import { arrival, dayOf, milliseconds, timeOf } from "../format";
import { Written } from "../parts/written";
import { StageStrip } from "../conversations/stage-strip";
import { Asked } from "../parts/asked";
import { Button, Code, Mark, Row, Sheet, Table, ErrorNote } from "../parts/sheet";
import { SentFiles } from "../parts/files";
import { Player } from "../parts/waveform";
import { colour } from "../theme";
import { ReplayOf } from "./replay";

const Fold = styled(Disclosure)`
  border-top: 1px solid ${colour.rule};
  [slot="trigger"] {
    display: grid;
    grid-template-columns: 1.2rem 7rem 5rem minmax(0, 1fr);
    width: 100%;
    text-align: left;
    gap: 0.5rem;
    padding: 0.55rem 0;
    background: none;
    border: 0;
    cursor: pointer;
  }
  [slot="trigger"]::before {
    content: "▸";
  }
  &[data-expanded] [slot="trigger"]::before {
    content: "▾";
  }
  h4 {
    margin: 0;
    font-weight: inherit;
  }
  h5 {
    margin: 0.5rem 0 0;
    font-size: 0.87rem;
    color: ${colour.faded};
  }
`;

/** A turn with everything that was recorded of it, and what an operator can do. */
export function TurnPage() {
  const { turn: id = "" } = useParams();
  const turn = useQuery({ queryKey: ["turn", id], queryFn: () => api.turn(id) });
  const queries = useQueryClient();
  const retry = useMutation({
    mutationFn: () => api.retry(id),
    onSuccess: (told) => queries.setQueryData(["turn", id], told),
  });
  if (turn.isPending) return null;
  if (turn.error) return <Sheet role="alert">The turn cannot be read: {turn.error.message}</Sheet>;
  const told = turn.data;
  return (
    <Sheet>
      <h2>{told.erased_at ? "An erased turn" : told.text || arrival(told.arrived_as)}</h2>
      <p>
        {told.contact_name}, {arrival(told.arrived_as)} on {told.channel}, {dayOf(told.received_at)}{" "}
        {timeOf(told.received_at)}.{told.draft && " The draft answered it: a tester wrote."}{" "}
        <Link to={`/conversations/${told.conversation}/${told.id}`}>In its conversation</Link>
      </p>
      {told.error && (
        <ErrorNote role="alert">
          Failed at {told.error.stage}: {told.error.what}
          {told.error.remedy && ` (${told.error.remedy})`}
        </ErrorNote>
      )}
      <Row>
        {told.sound && <Player clip={told.sound} label="what came in" />}
        {["failed", "answered"].includes(told.state) && !told.erased_at && (
          <Button onPress={() => retry.mutate()} isDisabled={retry.isPending}>
            Retry
          </Button>
        )}
      </Row>
      <SentFiles files={told.files} />
      {retry.error && <ErrorNote role="alert">{retry.error.message}</ErrorNote>}
      <Deliveries turn={told} />
      <ReplayOf key={told.id} turn={told} />
      {[...told.runs].reverse().map((run, place) => (
        <section key={run.id}>
          <h3>
            {place === 0 ? "Stages" : "An earlier try"}, revision {run.revision.slice(0, 8)}
          </h3>
          <StageStrip
            stages={run.stages.filter((stage) => stage.name !== "receive")}
            from={run.stages[0]?.started_at ?? told.received_at}
          />
          {run.stages.map((stage) => (
            <StageFold key={`${stage.name}${stage.part}${stage.attempt}`} stage={stage} />
          ))}
        </section>
      ))}
      <h3>As the network sent it</h3>
      <Code>{JSON.stringify(told.inbound, null, 2)}</Code>
    </Sheet>
  );
}

function StageFold({ stage }: { stage: Stage }) {
  const outcome = stage.outcome === "again" ? "tried again later" : stage.outcome;
  return (
    <Fold>
      <Heading level={4}>
        <Press slot="trigger">
          <span>
            {stage.name}
            {stage.attempt > 1 && ` ${stage.attempt}`}
          </span>
          <span>{milliseconds(stage.seconds)}</span>
          <Mark $kind={stage.outcome === "done" ? "good" : "bad"}>
            {stage.error ? `${outcome}: ${stage.error.what}` : outcome}
          </Mark>
          {stage.erased_at && <Mark $kind="plain">erased</Mark>}
        </Press>
      </Heading>
      <DisclosurePanel>
        {!stage.erased_at && <Sounds stage={stage} />}
        <Also output={stage.output} />
        {stage.output.asked?.length > 0 && <Asked asked={stage.output.asked} />}
        <h5>went in</h5>
        <Code>{JSON.stringify(stage.input, null, 2)}</Code>
        <h5>came out</h5>
        <Code>{JSON.stringify(withoutWaveforms(stage.output), null, 2)}</Code>
      </DisclosurePanel>
    </Fold>
  );
}

function Sounds({ stage }: { stage: Stage }) {
  const clips: Clip[] = [
    ...(stage.output.clip ? [stage.output.clip as Clip] : []),
    ...(stage.name === "speak"
      ? (stage.output.parts ?? []).map((part: { clip: Clip }) => part.clip)
      : []),
  ];
  return clips.map((clip, place) => (
    <Player
      key={clip.id}
      clip={clip}
      label={`${stage.name}${clips.length > 1 ? `, part ${place + 1}` : ""}`}
    />
  ));
}

function withoutWaveforms(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(withoutWaveforms);
  if (value && typeof value === "object")
    return Object.fromEntries(
      Object.entries(value)
        .filter(([name]) => name !== "waveform")
        .map(([name, each]) => [name, withoutWaveforms(each)]),
    );
  return value;
}

function Deliveries({ turn }: { turn: TurnDetail }) {
  const queries = useQueryClient();
  const deciding = useMutation({
    mutationFn: (given: { id: string; decision: string }) =>
      api.decide(turn.id, given.id, given.decision),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["turn", turn.id] }),
  });
  if (!turn.deliveries.length) return null;
  const open = (delivery: Delivery) => ["in-doubt", "refused", "dropped"].includes(delivery.state);
  return (
    <>
      <h3>Deliveries</h3>
      <Table>
        <tbody>
          {turn.deliveries.map((delivery) => (
            <tr key={delivery.id}>
              <td>{delivery.kind}</td>
              <td>
                {delivery.clip && <Player clip={delivery.clip} label="the answer" />}
                <Written text={delivery.text} />
              </td>
              <td style={{ overflowWrap: "break-word" }}>
                <Mark $kind={delivery.state === "sent" ? "good" : open(delivery) ? "bad" : "plain"}>
                  {delivery.state.replace("-", " ")}
                </Mark>
                {delivery.attempts > 1 && ` after ${delivery.attempts} tries`}
                {delivery.error && <div>{delivery.error.what}</div>}
              </td>
              <td>
                {open(delivery) && (
                  <Row>
                    <Button onPress={() => deciding.mutate({ id: delivery.id, decision: "retry" })}>
                      Send again
                    </Button>
                    <Button onPress={() => deciding.mutate({ id: delivery.id, decision: "sent" })}>
                      It went out
                    </Button>
                    <Button onPress={() => deciding.mutate({ id: delivery.id, decision: "drop" })}>
                      Drop
                    </Button>
                  </Row>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      {deciding.error && <ErrorNote role="alert">{deciding.error.message}</ErrorNote>}
    </>
  );
}

/** What else a stage heard: two readings of one sound, words before they were all said, and what
 * did not come back of a reply. */
function Also({ output }: { output: Stage["output"] }) {
  const readings: { engine: string; text: string; expected: boolean; used: boolean }[] =
    output.readings ?? [];
  const partials: { text: string; seconds: number }[] = output.partials ?? [];
  const doubts: { word: string; heard: string }[] = output.heard_as?.doubts ?? [];
  const beside: { text: string; start: number; end: number }[] = output.uncovered ?? [];
  if (!readings.length && !partials.length && !doubts.length && !beside.length) return null;
  return (
    <ul aria-label="Also heard">
      {readings.map((each) => (
        <li key={each.engine}>
          {each.engine} read “{each.text}”, {each.expected ? "expected" : "not expected"}
          {each.used && <strong>, used</strong>}
        </li>
      ))}
      {partials.map((each) => (
        <li key={each.seconds}>
          after {each.seconds.toFixed(1)} s: {each.text}
        </li>
      ))}
      {beside.map((each) => (
        <li key={each.start}>
          beside what was expected, from {each.start.toFixed(1)} to {each.end.toFixed(1)} s:{" "}
          {each.text || "no words that could be made out"}
        </li>
      ))}
      {doubts.map((each, place) => (
        <li key={place}>
          “{each.word}” came back as {each.heard ? `“${each.heard}”` : "nothing"}
        </li>
      ))}
    </ul>
  );
}
