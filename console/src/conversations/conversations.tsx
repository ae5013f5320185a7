import { GridList, GridListItem, Text } from "react-aria-components";
import styled from "styled-components";
import type { Conversation } from "../api";
import { timeOf } from "../format";
import { colour, font } from "../theme";
import { Older } from "./older";

const Side = styled.div`
  border-right: 1px solid ${colour.rule};
  padding: 0.9rem 0;
  > p {
    margin: 0 1rem 0.6rem;
    color: ${colour.buoy};
  }
  > button {
    margin: 0.7rem 1rem;
  }
  @media (max-width: 860px) {
    display: flex;
    overflow-x: auto;
    padding: 0;
    border-right: 0;
    border-bottom: 1px solid ${colour.rule};
  }
`;

const List = styled(GridList)`
  outline-offset: -3px;
  @media (max-width: 860px) {
    display: flex;
  }
`;

const Entry = styled(GridListItem)`
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  gap: 0 0.5rem;
  padding: 0.55rem 1rem;
  cursor: pointer;
  border-left: 4px solid transparent;
  outline-offset: -3px;
  &[data-hovered] {
    background: ${colour.wash};
  }
  &[data-selected] {
    background: ${colour.sheet};
    border-left-color: ${colour.buoy};
  }
  @media (max-width: 860px) {
    flex: 0 0 12.5rem;
  }
  b {
    font: 600 1rem/1.3 ${font.book};
  }
  small {
    color: ${colour.faded};
  }
  [slot="description"] {
    grid-column: 1 / -1;
    overflow: hidden;
    white-space: nowrap;
    text-overflow: ellipsis;
    font-size: 0.88rem;
  }
`;

export function Conversations(props: {
  items: Conversation[];
  chosen: string;
  choose: (id: string) => void;
  more?: () => void;
  reading: boolean;
  problem?: string;
}) {
  return (
    <Side>
      {props.problem && <p role="alert">The log cannot be read now: {props.problem}</p>}
      <List
        aria-label="Conversations"
        items={props.items}
        selectionMode="single"
        selectionBehavior="replace"
        selectedKeys={props.chosen ? [props.chosen] : []}
        onSelectionChange={(keys) => {
          const [id] = keys === "all" ? [] : [...keys];
          if (id) props.choose(String(id));
        }}
      >
        {(item) => {
          const each = item as Conversation;
          return (
            <Entry id={each.id} textValue={`${each.contact_name}, ${each.turns} turns`}>
              <b>{each.contact_name}</b>
              <small>{timeOf(each.changed_at)}</small>
              <Text slot="description">{each.last_text || "…"}</Text>
              <small>
                {each.channel}, {each.turns === 1 ? "1 turn" : `${each.turns} turns`}
              </small>
            </Entry>
          );
        }}
      </List>
      {props.more && (
        <Older onPress={props.more} isDisabled={props.reading}>
          Older conversations
        </Older>
      )}
    </Side>
  );
}
