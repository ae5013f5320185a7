import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { Button } from "react-aria-components";
import { Link } from "react-router";
import styled from "styled-components";
import { api, type Clip, type Run, type Stage } from "../api";
import { bytes, milliseconds, timeOf } from "../format";
import { SentFiles } from "../parts/files";
import { Player } from "../parts/waveform";
import { colour, font } from "../theme";
import { StageStrip } from "./stage-strip";

const Sheet = styled.aside`
  border-left: 1px solid ${colour.rule};
  padding: 1.2rem 1.3rem 3rem;
  h2 {
    margin: 0;
    font: 600 1.2rem/1.2 ${font.book};
  }
  a {
    color: ${colour.ink};
    text-underline-offset: 3px;
  }
  > header {
    display: flex;
    justify-content: space-between;
    gap: 1rem;
    margin-bottom: 0.9rem;
  }
  > header small {
    color: ${colour.faded};
  }
`;

const Close = styled(Button)`
  align-self: start;
  border: 0;
  background: none;
  cursor: pointer;
  text-decoration: underline;
  text-underline-offset: 3px;
`;

const Stages = styled.ol`
  list-style: none;
  margin: 1.2rem 0 0;
  padding: 0;
`;

const Row = styled.li<{ $failed: boolean }>`
  padding: 0.6rem 0;
  border-top: 1px solid ${colour.rule};
  header {
    display: flex;
    justify-content: space-between;
    font-weight: 600;
    color: ${(props) => (props.$failed ? colour.buoy : "inherit")};
  }
  p {
    margin: 0.15rem 0 0.4rem;
    font-family: ${font.book};
    overflow-wrap: anywhere;
    white-space: pre-wrap;
  }
  small {
    color: ${colour.faded};
  }
  ul {
    margin: 0.2rem 0 0;
    padding-left: 1.1rem;
    font-size: 0.88rem;
    color: ${colour.faded};
  }
  b {
    color: ${colour.ink};
    font-weight: 600;
  }
`;

/** One turn, stage by stage. */
export function TurnSheet({ id, close }: { id: string; close: () => void }) {
  const turn = useQuery({ queryKey: ["turn", id], queryFn: () => api.turn(id) });
  const sheet = useRef<HTMLElement>(null);
  const there = turn.isSuccess;
  useEffect(() => {
    // On a narrow screen the sheet stands below the book.
    if (there && matchMedia("(max-width: 860px)").matches) sheet.current?.scrollIntoView();
  }, [id, there]);
  if (turn.isPending) return <Sheet aria-busy />;
  if (turn.error) return <Sheet role="alert">The turn cannot be read: {turn.error.message}</Sheet>;
  const run = turn.data.runs.at(-1);
  return (
    <Sheet ref={sheet} aria-label="Stages of the turn">
      <header>
        <div>
          <h2>Turn {turn.data.number}</h2>
          <small>
            {timeOf(turn.data.received_at)}
            {run && `, revision ${run.revision.slice(0, 8)}`}
          </small>
        </div>
        <Close onPress={close}>close</Close>
      </header>
      <p>
        <Link to={`/turns/${id}`}>Everything about this turn</Link>
      </p>
      {run ? <RunOf run={run} received={turn.data.received_at} /> : <p>Not begun yet.</p>}
    </Sheet>
  );
}

function RunOf({ run, received }: { run: Run; received: string }) {
  const worked = run.stages.filter((stage) => stage.name !== "receive");
  return (
    <>
      <StageStrip stages={worked} from={run.stages[0]?.started_at ?? received} />
      <Stages>
        {worked.map((stage) => (
          <Row
            key={`${stage.name}-${stage.part}-${stage.attempt}`}
            $failed={stage.outcome === "failed"}
          >
            <header>
              <span>
                {stage.name}
                {stage.attempt > 1 && `, attempt ${stage.attempt}`}
              </span>
              <span>{milliseconds(stage.seconds)}</span>
            </header>
            <What stage={stage} />
          </Row>
        ))}
      </Stages>
    </>
  );
}

function What({ stage }: { stage: Stage }) {
  const out = stage.output;
  if (stage.erased_at) return <p>Erased.</p>;
  if (stage.error)
    return (
      <p>
        {stage.error.what} <small>({stage.error.code})</small>
      </p>
    );
  switch (stage.name) {
    case "fetch":
      return (
        <>
          {out.clip && <p>{`${bytes(out.clip.size)} of ${out.clip.media_type}`}</p>}
          <SentFiles files={out.files ?? []} />
        </>
      );
    case "decode":
      return (
        <>
          <p>{`${out.codec} in ${out.container}, ${out.clip.seconds.toFixed(2)} s`}</p>
          <Player clip={out.clip as Clip} label="as decoded" />
        </>
      );
    case "transcribe":
      return (
        <>
          <p>{out.written}</p>
          <small>
            {out.source === "expected" ? "one of the expected phrases" : "dictation"},{" "}
            {Math.round(out.confidence * 100)} % sure. Spoken: {out.spoken}
          </small>
        </>
      );
    case "route":
      return (
        <>
          <p>{`${out.route}: ${out.because}`}</p>
          <ul>
            {out.scores.slice(0, 5).map((score: { route: string; score: number }) => (
              <li key={score.route}>
                {score.route === out.route ? <b>{score.route}</b> : score.route}{" "}
                {score.score.toFixed(2)}
              </li>
            ))}
          </ul>
        </>
      );
    case "answer":
      return (
        <p>
          {out.parts
            .map((part: { text: string; spoken: string }) => part.text || part.spoken)
            .join("\n")
            .trim()}
        </p>
      );
    case "speak":
      return (
        <>
          <p>{out.parts.map((part: { text: string }) => part.text).join(" / ")}</p>
          <small>voice {String(stage.input.voice)}</small>
        </>
      );
    case "encode":
      return (
        <>
          <p>{`${bytes(out.clip.size)}, ${out.clip.seconds.toFixed(2)} s`}</p>
          <Player clip={out.clip as Clip} label="as sent" />
        </>
      );
    case "deliver":
      return (
        <p>
          {out.parts
            .map((part: { kind: string; state: string }) => `${part.kind} ${part.state}`)
            .join(", ")}
        </p>
      );
    default:
      return null;
  }
}
