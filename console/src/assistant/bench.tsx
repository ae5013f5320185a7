import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, type Files, type Tried } from "../api";
import { Button, Row, Text, ErrorNote } from "../parts/sheet";
import { colour } from "../theme";
import { useRecorder } from "../guest/recorder";
import { playingTime } from "../format";

const LONGEST = 60;

/** A recording as a data URI. */
function dataOf(blob: Blob): Promise<string> {
  return new Promise((give, fail) => {
    const reader = new FileReader();
    reader.onload = () => give(String(reader.result));
    reader.onerror = () => fail(reader.error);
    reader.readAsDataURL(blob);
  });
}

const Talk = styled.ol`
  list-style: none;
  margin: 0.8rem 0;
  padding: 0;
  display: grid;
  gap: 0.9rem;
  > li {
    border-top: 1px solid ${colour.rule};
    padding-top: 0.6rem;
  }
  blockquote {
    margin: 0.2rem 0;
    padding-left: 0.8rem;
    border-left: 3px solid ${colour.kelp};
    white-space: pre-wrap;
  }
  small {
    color: ${colour.faded};
    display: block;
  }
`;

const Scores = styled.ul`
  list-style: none;
  margin: 0.4rem 0 0;
  padding: 0;
  font-size: 0.87rem;
  li {
    display: grid;
    grid-template-columns: 9rem 1fr 3rem;
    gap: 0.6rem;
    align-items: center;
    padding: 0.1rem 0;
  }
  meter {
    width: 100%;
    height: 0.6rem;
  }
`;

type Said = { words: string; told: Tried };

/** A talk with the files as they stand in the editor: which route, why, what the others scored. */
export function Bench({ name, files }: { name: string; files: Files }) {
  const [words, setWords] = useState("");
  const [said, setSaid] = useState<Said[]>([]);
  const state = said[0]?.told.state ?? {};
  const recorder = useRecorder(LONGEST);
  const ask = useMutation({
    mutationFn: (given: { text: string; choice?: string; sound?: string }) =>
      api.tryAssistant(name, { ...given, files, state }),
    onSuccess: (told, given) => {
      const words = told.heard?.written || (given.sound ? "…" : (given.choice ?? given.text));
      setSaid((before) => [{ words, told }, ...before]);
      setWords("");
      if (given.sound) recorder.drop();
    },
  });
  const tryRecording = async () => {
    if (recorder.recording) ask.mutate({ text: "", sound: await dataOf(recorder.recording.blob) });
  };
  return (
    <section aria-label="Try it">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (words.trim()) ask.mutate({ text: words });
        }}
      >
        <Row>
          <Text label="Say something" value={words} onChange={setWords} />
          <Button type="submit" isDisabled={ask.isPending}>
            Try
          </Button>
        </Row>
      </form>
      <Row style={{ marginTop: "0.7rem" }}>
        {recorder.running ? (
          <Button onPress={recorder.stop}>Stop, {playingTime(recorder.seconds)}</Button>
        ) : (
          <Button onPress={() => void recorder.start()}>Record</Button>
        )}
        <Button onPress={() => setSaid([])} isDisabled={said.length === 0}>
          Reset
        </Button>
        {recorder.recording && (
          <>
            <audio controls src={recorder.recording.address} aria-label="Your recording" />
            <Button onPress={() => void tryRecording()} isDisabled={ask.isPending}>
              Try the recording
            </Button>
          </>
        )}
      </Row>
      {recorder.problem && <ErrorNote role="alert">{recorder.problem}</ErrorNote>}
      {ask.error && <ErrorNote role="alert">{ask.error.message}</ErrorNote>}
      <Talk aria-label="What was tried">
        {said.map(({ words: each, told }, place) => (
          <li key={said.length - place}>
            <b>{each}</b>
            {told.heard && (
              <small>heard in a recording, {Math.round(told.heard.confidence * 100)} % sure</small>
            )}
            <small>
              {told.route}, by {told.by}: {told.because}
            </small>
            {Object.entries(told.slots).map(([slot, value]) => (
              <small key={slot}>
                {slot}: {String(value)}
              </small>
            ))}
            {told.replies.map((reply, number) => (
              <blockquote key={number}>
                {reply.text || reply.spoken}
                {place === 0 && reply.choices.length > 0 && (
                  <Row>
                    {reply.choices.map((choice) => (
                      <Button
                        key={choice.value}
                        onPress={() => ask.mutate({ text: "", choice: choice.value })}
                      >
                        {choice.label}
                      </Button>
                    ))}
                  </Row>
                )}
              </blockquote>
            ))}
            {told.not_run && <small>{told.not_run}</small>}
            {place === 0 && told.scores.length > 0 && (
              <Scores aria-label="Scores">
                {told.scores.slice(0, 8).map((score) => (
                  <li key={score.route} title={score.because}>
                    <span>{score.route}</span>
                    <meter
                      min={0}
                      max={1}
                      value={score.score}
                      aria-label={`Score of ${score.route}`}
                    />
                    <span>{score.score.toFixed(2)}</span>
                  </li>
                ))}
              </Scores>
            )}
          </li>
        ))}
      </Talk>
    </section>
  );
}
