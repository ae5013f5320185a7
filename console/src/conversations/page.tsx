import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import styled from "styled-components";
import { api } from "../api";
import { usePages } from "../parts/pages";
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
  const list = useInfiniteQuery({
    queryKey: ["conversations"],
    queryFn: ({ pageParam }) => api.conversations(pageParam),
    initialPageParam: "",
    getNextPageParam: (page) => page.next || undefined,
  });
  // One that moves up while pages are read is on two of them.
  const read = list.data?.pages.flatMap((page) => page.items) ?? [];
  const items = [...new Map(read.map((each) => [each.id, each])).values()];
  const [wanted, setWanted] = useState(1);
  const { loaded, missing } = usePages(list, wanted);
  // The one that lay on top at first stays open when others move above it. The address is left as
  // it is: going elsewhere from here would undo a step that the reader takes meanwhile.
  const [first, setFirst] = useState("");
  const top = items[0]?.id ?? "";
  if (!first && top) setFirst(top);
  const conversation = asked ?? first;
  const listed = items.find((each) => each.id === conversation);
  // One that others have pushed off the list stays open, and can be answered.
  const one = useQuery({
    queryKey: ["conversation", conversation],
    queryFn: () => api.conversation(conversation),
    enabled: Boolean(conversation),
  });
  if (list.isPending) return null;
  // What was read before stays while it cannot be read again, and with it what is being written.
  if (!list.data) return <Empty role="alert">The log cannot be read: {list.error?.message}</Empty>;
  if (!items.length)
    return (
      <Empty>
        Nothing has come in yet. Send a voice note or a text over one of your channels, and it is
        written here as it happens.
      </Empty>
    );
  const chosen = one.data ?? listed;
  return (
    <Table $open={Boolean(turn)}>
      <Conversations
        items={items}
        chosen={conversation}
        choose={(id) => void go(`/conversations/${id}`)}
        more={list.hasNextPage ? () => setWanted(loaded + 1) : undefined}
        reading={missing}
        problem={list.error?.message}
      />
      {conversation ? (
        <Book key={conversation} conversation={conversation} about={chosen} turn={turn} />
      ) : (
        <span />
      )}
      {turn && <TurnSheet id={turn} close={() => void go(`/conversations/${conversation}`)} />}
    </Table>
  );
}
