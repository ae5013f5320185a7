import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Radio } from "react-aria-components";
import { api, type Replay, type ReplayBegin, type TurnDetail } from "../api";
import { BothSounds, StageTimes } from "./beside";
import { Button, ErrorNote, Mark, Options, Row, Table, Text } from "../parts/sheet";

const SHOWN = [
  ["text", "said"],
  ["route", "route"],
  ["because", "why"],
  ["slots", "slots"],
  ["written", "written"],
  ["spoken", "spoken"],
  ["choices", "choices"],
  ["error", "error"],
  ["not_run", "not run"],
] as const;

const plain = (value: unknown): string =>
  Array.isArray(value)
    ? value.join(", ")
    : value && typeof value === "object"
      ? Object.entries(value)
          .map(([name, each]) => `${name}: ${String(each)}`)
          .join(", ")
      : String(value ?? "");

/** A turn as it was, beside what it would be now; and kept as a case. */
export function ReplayOf({ turn }: { turn: TurnDetail }) {
  const [name, setName] = useState("");
  const [begin, setBegin] = useState<ReplayBegin>("route");
  const replay = useMutation({
    mutationFn: (revision: string) => api.replay(turn.id, revision, begin),
  });
  const keep = useMutation({
    mutationFn: async () => {
      const kept = await api.asCase(turn.id, name);
      const draft = await api.draft(kept.assistant);
      const files = { ...draft.files, [kept.file]: kept.text };
      if (kept.sound_file) files[kept.sound_file] = kept.sound;
      await api.putDraft(kept.assistant, files, draft.revision);
      return kept;
    },
  });
  const [route, setRoute] = useState("");
  const [example, setExample] = useState(turn.text);
  const correct = useMutation({ mutationFn: () => api.correct(turn.id, route, example, name) });
  if (turn.erased_at || !["answered", "failed"].includes(turn.state)) return null;
  return (
    <section aria-label="Replay">
      <h3>Replay</h3>
      <Row>
        <Options
          value={begin}
          onChange={(given) => setBegin(given as ReplayBegin)}
          aria-label="From"
        >
          <span>From</span>
          {turn.sound && <Radio value="transcribe">its sound</Radio>}
          <Radio value="route">its words</Radio>
          <Radio value="answer">its route</Radio>
        </Options>
        <Button onPress={() => replay.mutate("draft")} isDisabled={replay.isPending}>
          On the draft
        </Button>
        <Button onPress={() => replay.mutate("live")} isDisabled={replay.isPending}>
          On live
        </Button>
      </Row>
      {replay.error && <ErrorNote role="alert">{replay.error.message}</ErrorNote>}
      {replay.data && <SideBySide found={replay.data} />}
      <Row>
        <Text
          label="Keep it as a case"
          value={name}
          onChange={(given) => setName(given.toLowerCase().replaceAll(/[^a-z0-9-]/g, "-"))}
          placeholder="its name"
        />
        <Button onPress={() => keep.mutate()} isDisabled={name.length < 2 || keep.isPending}>
          Save
        </Button>
      </Row>
      <Row>
        <Text label="It meant the route" value={route} onChange={setRoute} placeholder="fares" />
        <Text label="As an example" value={example} onChange={setExample} />
        <Button
          onPress={() => correct.mutate()}
          isDisabled={route.length < 2 || !example || correct.isPending}
        >
          Correct it in the draft
        </Button>
      </Row>
      {correct.error && <ErrorNote role="alert">{correct.error.message}</ErrorNote>}
      {correct.data && (
        <>
          <p role="status">
            {correct.data.draft
              ? `It stands in the draft${correct.data.case && `, with the case ${correct.data.case}`}.`
              : "Nothing was changed: it would still be taken elsewhere."}
          </p>
          <SideBySide found={correct.data.replay} />
        </>
      )}
      {keep.error && <ErrorNote role="alert">{keep.error.message}</ErrorNote>}
      {keep.data && (
        <p role="status">
          Kept as {keep.data.file} in the draft of {keep.data.assistant}: what came out must come
          out again.
        </p>
      )}
    </section>
  );
}

function SideBySide({ found }: { found: Replay }) {
  return (
    <>
      <p role="status">
        {found.changed.length
          ? `Different: ${found.changed.join(", ").replaceAll("_", " ")}.`
          : "Nothing would be different."}
      </p>
      <Table>
        <thead>
          <tr>
            <th />
            <th>then</th>
            <th>on {found.revision.slice(0, 10)}</th>
          </tr>
        </thead>
        <tbody>
          {SHOWN.filter(([key]) => plain(found.before[key]) || plain(found.after[key])).map(
            ([key, label]) => (
              <tr key={key}>
                <td>
                  {label} {found.changed.includes(key) && <Mark $kind="bad">≠</Mark>}
                </td>
                <td style={{ whiteSpace: "pre-wrap" }}>{plain(found.before[key])}</td>
                <td style={{ whiteSpace: "pre-wrap" }}>{plain(found.after[key])}</td>
              </tr>
            ),
          )}
          {(found.before.scores?.length || found.after.scores?.length) && (
            <tr>
              <td>likeliest routes</td>
              {[found.before, found.after].map((each, place) => (
                <td key={place}>
                  {each.scores
                    ?.map((one) => `${one.route} ${Math.round(100 * one.confidence)} %`)
                    .join(", ")}
                </td>
              ))}
            </tr>
          )}
        </tbody>
      </Table>
      <StageTimes found={found} />
      <BothSounds found={found} />
    </>
  );
}
