import { useInfiniteQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import styled from "styled-components";
import { api, type Conversation, type Delivery, type Turn } from "../api";
import { arrival, dayOf, milliseconds, timeOf } from "../format";
import { SentFiles } from "../parts/files";
import { usePages } from "../parts/pages";
import { Written } from "../parts/written";
import { Player } from "../parts/waveform";
import { colour, font } from "../theme";
import { Older } from "./older";
import { Person } from "./person";

const Leaf = styled.section`
  background: ${colour.sheet};
  padding: 1.2rem 1.6rem 0;
  h2 {
    margin: 0;
    font: 600 1.35rem/1.2 ${font.book};
  }
  > header {
    margin-bottom: 0.8rem;
    color: ${colour.faded};
    h2 {
      color: ${colour.ink};
    }
  }
`;

const Day = styled.h3`
  margin: 1.4rem 0 0;
  font: italic 400 0.95rem ${font.book};
  color: ${colour.faded};
`;

const Entry = styled.article<{ $chosen: boolean }>`
  display: grid;
  grid-template-columns: 4.6rem minmax(0, 1fr);
  gap: 0 1rem;
  padding: 0.85rem 0 1rem 1rem;
  margin-left: -1rem;
  border-bottom: 1px solid ${colour.rule};
  box-shadow: ${(props) => (props.$chosen ? `inset 4px 0 0 ${colour.buoy}` : "none")};
  > time {
    color: ${colour.faded};
    padding-top: 0.15rem;
  }
`;

const Said = styled.div`
  display: grid;
  gap: 0.35rem;
  p {
    margin: 0;
    font: 400 1.08rem/1.45 ${font.book};
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
`;

const Answer = styled(Said)`
  grid-column: 2;
  margin-top: 0.7rem;
  padding-left: 1rem;
  border-left: 3px solid ${colour.kelp};
`;

const Notes = styled.div`
  grid-column: 2;
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1rem;
  margin-top: 0.6rem;
  font-size: 0.87rem;
  color: ${colour.faded};
  a {
    color: ${colour.ink};
    text-underline-offset: 3px;
  }
  strong {
    color: ${colour.buoy};
    font-weight: 600;
  }
`;

const Label = styled.span`
  font-size: 0.87rem;
  color: ${colour.faded};
`;

const MOST_PAGES = 20;

/** A conversation as a page of the log book: in order of time, the latest at the foot. */
export function Book(props: { conversation: string; about?: Conversation; turn: string }) {
  const pages = useInfiniteQuery({
    queryKey: ["turns", props.conversation],
    queryFn: ({ pageParam }) => api.turns(props.conversation, pageParam),
    initialPageParam: "",
    getNextPageParam: (page) => page.next || undefined,
  });
  const leaf = useRef<HTMLElement>(null);
  const turns = pages.data?.pages.flatMap((page) => page.items).reverse() ?? [];
  const latest = turns.at(-1);
  // Who reads at the foot sees what comes; who reads above is left there.
  const atFoot = useRef(true);
  useEffect(() => {
    if (atFoot.current) leaf.current?.scrollTo({ top: leaf.current.scrollHeight });
  }, [latest?.id, latest?.state]);
  const found = turns.some((turn) => turn.id === props.turn);
  // An address may lead to an old turn: earlier pages are read until it is there.
  const sought = Boolean(props.turn) && !found;
  const [wanted, setWanted] = useState(1);
  const { loaded, missing } = usePages(pages, sought ? MOST_PAGES : wanted);
  useEffect(() => {
    if (!found) return;
    atFoot.current = false;
    leaf.current?.querySelector(`[data-turn="${props.turn}"]`)?.scrollIntoView({ block: "center" });
  }, [found, props.turn]);
  return (
    <Leaf
      ref={leaf}
      aria-label="Turns of the conversation"
      onScroll={({ currentTarget: { scrollHeight, scrollTop, clientHeight } }) => {
        atFoot.current = scrollHeight - scrollTop - clientHeight < 80;
      }}
    >
      <header>
        <h2>{props.about?.contact_name ?? "Conversation"}</h2>
        {props.about && <span>on the channel {props.about.channel}</span>}
      </header>
      {pages.error && <p role="alert">The turns cannot be read: {pages.error.message}</p>}
      {sought && missing && <p role="status">Looking for the turn …</p>}
      {pages.hasNextPage && !(sought && missing) && (
        <Older onPress={() => setWanted(loaded + 1)} isDisabled={missing}>
          Earlier turns
        </Older>
      )}
      {turns.map((turn, place) => (
        <div key={turn.id}>
          {dayOf(turn.received_at) !==
            dayOf(turns[place - 1]?.received_at ?? "1970-01-01T00:00Z") && (
            <Day>{dayOf(turn.received_at)}</Day>
          )}
          <TurnEntry turn={turn} chosen={turn.id === props.turn} />
        </div>
      ))}
      {props.about && <Person about={props.about} />}
    </Leaf>
  );
}

function TurnEntry({ turn, chosen }: { turn: Turn; chosen: boolean }) {
  return (
    <Entry $chosen={chosen} data-turn={turn.id} data-state={turn.state}>
      <time dateTime={turn.received_at}>{timeOf(turn.received_at)}</time>
      <Said>
        <Label>
          {turn.cause === "operator"
            ? "an operator wrote"
            : `${turn.contact_name}, ${arrival(turn.arrived_as)}`}
        </Label>
        {turn.draft && <Label>a tester, answered by the draft</Label>}
        {turn.sound_erased_at && !turn.erased_at && <Label>the sound was erased</Label>}
        {turn.sound && <Player clip={turn.sound} label={`what ${turn.contact_name} said`} />}
        <SentFiles files={turn.files} />
        <p>
          {turn.erased_at
            ? "Erased."
            : turn.text ||
              (turn.arrived_as === "file"
                ? ""
                : turn.state === "failed"
                  ? "Nothing was understood."
                  : "…")}
        </p>
      </Said>
      {turn.deliveries.map((delivery) => (
        <Answered key={delivery.id} delivery={delivery} erased={turn.erased_at !== null} />
      ))}
      <Notes>
        <Link
          to={`/conversations/${turn.conversation}/${turn.id}`}
          aria-current={chosen ? "true" : undefined}
        >
          stages
        </Link>
        {turn.route && <span>route {turn.route}</span>}
        <State turn={turn} />
      </Notes>
    </Entry>
  );
}

function Answered({ delivery, erased }: { delivery: Delivery; erased: boolean }) {
  return (
    <Answer>
      <Label>answered {delivery.kind === "voice" ? "by voice note" : "in writing"}</Label>
      {delivery.clip && <Player clip={delivery.clip} label="the answer" />}
      {erased ? <p>Erased.</p> : <Written text={delivery.text} />}
      {delivery.state !== "sent" && <Label>{delivery.state.replace("-", " ")}</Label>}
    </Answer>
  );
}

function State({ turn }: { turn: Turn }) {
  if (turn.state === "cancelled")
    return <span>given up: it was erased while it was being worked on</span>;
  if (turn.state === "failed")
    return (
      <strong>
        failed at {turn.error?.stage}: {turn.error?.what}
      </strong>
    );
  if (turn.finished_at) {
    const took = (Date.parse(turn.finished_at) - Date.parse(turn.received_at)) / 1000;
    return <span>answered in {milliseconds(took)}</span>;
  }
  return (
    <span>{turn.state === "waiting" ? "waiting for the turn before" : "being worked on"}</span>
  );
}
