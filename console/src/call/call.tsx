import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useParams } from "react-router";
import styled from "styled-components";
import { api, type CallDetail, type Happening, soundAddress } from "../api";
import { causeOf, dayOf, playingTime, timeOf } from "../format";
import { Button, Mark, Row, Sheet, Table, ErrorNote } from "../parts/sheet";
import { colour } from "../theme";
import { Tape } from "./tape";

const Facts = styled.dl`
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem 2.2rem;
  margin: 0 0 1.2rem;
  dt {
    font-size: 0.87rem;
    color: ${colour.faded};
  }
  dd {
    margin: 0;
    font-weight: 600;
  }
`;

/** The details of an event of the call. */
const TOLD: Record<string, string> = {
  ringing: "it rang",
  placed: "placed",
  answered: "answered",
  answered_by: "who answered",
  greeted: "the greeting",
  opened: "the opening",
  said: "the caller spoke",
  key: "pressed",
  "barge-in": "barge-in",
  changed: "media changed",
  transferred: "connected on",
  recorded: "recording kept",
  tried: "tried",
  ended: "ended",
};

function about(each: Happening): string {
  const told = each.about as Record<string, string | number>;
  switch (each.kind) {
    case "key":
      return String(told.keys);
    case "answered_by":
      return String(told.who);
    case "ended":
      return causeOf(String(told.cause));
    case "transferred":
      return `${told.to}: ${told.status}`;
    case "changed":
      return told.direction === "recvonly" || told.direction === "inactive"
        ? "on hold"
        : "talking on";
    case "tried":
      return `${told.outcome}, again later`;
    default:
      return String(told.number ?? told.what ?? "");
  }
}

/** A call: what happened in it, over how both sides sounded. */
export function CallPage() {
  const { call: id = "" } = useParams();
  const queries = useQueryClient();
  const call = useQuery({ queryKey: ["call", id], queryFn: () => api.callOf(id) });
  const ending = useMutation({
    mutationFn: () => api.endCall(id),
    onSettled: () => queries.invalidateQueries({ queryKey: ["call", id] }),
  });
  if (call.isPending) return null;
  if (call.error) return <Sheet role="alert">The call cannot be read: {call.error.message}</Sheet>;
  const told = call.data;
  const other =
    told.direction === "in" ? `from ${told.caller || "an unknown number"}` : `to ${told.number}`;
  return (
    <Sheet>
      <h2>Call {other}</h2>
      <p>
        {dayOf(told.requested_at)} {timeOf(told.requested_at)}, on{" "}
        <Link to={`/channels/${told.channel}`}>{told.channel}</Link>:{" "}
        <Mark $kind={told.answered_at ? "good" : told.state === "ended" ? "bad" : "plain"}>
          {standing(told)}
        </Mark>
      </p>
      <Row>
        {told.state !== "ended" && (
          <Button onPress={() => ending.mutate()} isDisabled={ending.isPending}>
            Hang up
          </Button>
        )}
      </Row>
      {ending.error && <ErrorNote role="alert">{ending.error.message}</ErrorNote>}
      <Facts>
        {told.seconds !== null && <Fact name="length" value={playingTime(told.seconds)} />}
        {told.answered_by && (
          <Fact
            name="answered by"
            value={`a ${told.answered_by}`.replace("a unknown", "not known")}
          />
        )}
        {told.quality && (
          <>
            <Fact name="MOS" value={String(told.quality.mos)} />
            <Fact name="lost" value={`${(100 * told.quality.loss).toFixed(1)} %`} />
            <Fact name="jitter" value={`${told.quality.jitter_ms} ms`} />
            <Fact
              name="packets from unknown sources"
              value={String(told.quality.unknown_source_packets)}
            />
          </>
        )}
      </Facts>
      <Heard call={told} />
      <h3>What happened</h3>
      <Table>
        <thead>
          <tr>
            <th>at</th>
            <th>what</th>
            <th>more</th>
            <th>turn</th>
          </tr>
        </thead>
        <tbody>
          {told.timeline.map((each, place) => (
            <tr key={place}>
              <td>{each.at === null ? "before" : `${each.at.toFixed(2)} s`}</td>
              <td>{TOLD[each.kind] ?? each.kind}</td>
              <td>{about(each)}</td>
              <td>
                {typeof each.about.turn === "string" && (
                  <Link to={`/turns/${each.about.turn}`}>stages</Link>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </Sheet>
  );
}

function standing(call: CallDetail): string {
  if (call.state !== "ended")
    return call.state === "requested" && call.due_at ? `due at ${timeOf(call.due_at)}` : call.state;
  return `${causeOf(call.cause)}${call.by === "us" ? ", by us" : call.by === "them" ? ", by the other side" : ""}`;
}

function Fact(props: { name: string; value: string }) {
  return (
    <div>
      <dt>{props.name}</dt>
      <dd>{props.value}</dd>
    </div>
  );
}

/** The recording with its two waveforms, and what happened along them. */
function Heard({ call }: { call: CallDetail }) {
  const audio = useRef<HTMLAudioElement>(null);
  const [at, setAt] = useState(0);
  if (!call.recording || !call.waveforms)
    return call.answered_at ? (
      <p>The call was not recorded, so there is nothing to see or hear of it.</p>
    ) : null;
  const move = (to: number) => {
    if (audio.current) audio.current.currentTime = to;
    setAt(to);
  };
  return (
    <>
      <Tape waveforms={call.waveforms} timeline={call.timeline} at={at} move={move} />
      <audio
        ref={audio}
        controls
        preload="metadata"
        aria-label="The recording: left the other side, right us"
        src={soundAddress(call.recording)}
        onTimeUpdate={() => setAt(audio.current?.currentTime ?? 0)}
      />
    </>
  );
}
