import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import styled from "styled-components";
import { api } from "../api";
import { colour } from "../theme";
import { Book } from "./book";
import { Conversations } from "./conversations";
import { TurnSheet } from "./turn-sheet";

const Table = styled.main<{ $open: boolean }>`
  display: grid;
  grid-template-columns:
    15rem minmax(0, 1fr)
    ${(props) => (props.$open ? "minmax(22rem, 34%)" : "")};
  min-height: 0;
  height: 100%;
  > * {
    min-height: 0;
    overflow-y: auto;
  }
  @media (max-width: 860px) {
    display: block;
    overflow-y: auto;
    > * {
      overflow-y: visible;
    }
  }
`;

const Empty = styled.p`
  max-width: 34rem;
  margin: 18vh auto;
  padding: 0 2rem;
  color: ${colour.faded};
`;

/** The log: conversations, one of them as a page of the book, and a turn laid beside it. */
export function ConversationsPage() {
  const { conversation: asked, turn = "" } = useParams();
  const go = useNavigate();
  const list = useQuery({ queryKey: ["conversations"], queryFn: api.conversations });
  // The one that lay on top at first stays open when others move above it. The address is left as
  // it is: going elsewhere from here would undo a step that the reader takes meanwhile.
  const [first, setFirst] = useState("");
  const top = list.data?.items[0]?.id ?? "";
  if (!first && top) setFirst(top);
  const conversation = asked ?? first;
  if (list.isPending) return null;
  if (list.error) return <Empty role="alert">The log cannot be read: {list.error.message}</Empty>;
  if (!list.data.items.length)
    return (
      <Empty>
        Nothing has come in yet. Send a voice note or a text over one of your channels, and it is
        written here as it happens.
      </Empty>
    );
  const chosen = list.data.items.find((each) => each.id === conversation);
  return (
    <Table $open={Boolean(turn)}>
      <Conversations
        items={list.data.items}
        chosen={conversation}
        choose={(id) => void go(`/conversations/${id}`)}
      />
      {conversation ? <Book conversation={conversation} about={chosen} turn={turn} /> : <span />}
      {turn && <TurnSheet id={turn} close={() => void go(`/conversations/${conversation}`)} />}
    </Table>
  );
}
