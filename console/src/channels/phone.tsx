import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import styled from "styled-components";
import { api, type Channel } from "../api";
import { causeOf, playingTime, timeOf } from "../format";
import { Button, Mark, Row, Table, ErrorNote } from "../parts/sheet";
import { colour, font } from "../theme";
import { useHandset } from "./handset";

const KEYS = ["1", "2", "3", "4", "5", "6", "7", "8", "9", "*", "0", "#"];

const Pad = styled.div`
  display: grid;
  grid-template-columns: repeat(3, 3.2rem);
  gap: 0.35rem;
  margin: 0.7rem 0;
  button {
    padding: 0.45rem 0;
    font: 600 1.05rem ${font.plain};
  }
`;

const Level = styled.div<{ $at: number }>`
  width: 10.3rem;
  height: 6px;
  background: ${colour.rule};
  &::before {
    content: "";
    display: block;
    height: 100%;
    width: ${(props) => Math.round(100 * props.$at)}%;
    background: ${colour.kelp};
  }
`;

const STATES = {
  "": "",
  calling: "calling …",
  ringing: "it rings …",
  answered: "talking",
  over: "over",
};

/** A phone channel: where it is registered, a telephone to call it, and its calls. */
export function PhoneChannel({ channel }: { channel: Channel }) {
  const registrars = channel.facts.registrars ?? [];
  return (
    <>
      {registrars.length > 0 && (
        <>
          <h3>Registered with</h3>
          <Table>
            <tbody>
              {registrars.map((each) => (
                <tr key={each.registrar}>
                  <td>{each.registrar}</td>
                  <td>
                    <Mark
                      $kind={
                        each.state === "registered"
                          ? "good"
                          : each.state === "failed"
                            ? "bad"
                            : "plain"
                      }
                    >
                      {each.state}
                    </Mark>
                  </td>
                  <td>{each.reason}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
      <Telephone channel={channel} />
      <Calls channel={channel} />
    </>
  );
}

function Telephone({ channel }: { channel: Channel }) {
  const handset = useHandset(channel.name);
  const talking = ["calling", "ringing", "answered"].includes(handset.state);
  return (
    <>
      <h3>Call it from here</h3>
      <Row>
        {talking ? (
          <Button onPress={handset.hangUp}>Hang up</Button>
        ) : (
          <Button onPress={() => void handset.call()}>Call</Button>
        )}
        <span role="status">{STATES[handset.state]}</span>
      </Row>
      {handset.problem && <ErrorNote role="alert">{handset.problem}</ErrorNote>}
      {talking && (
        <>
          <Pad role="group" aria-label="Keys">
            {KEYS.map((key) => (
              <Button
                key={key}
                onPress={() => handset.press(key)}
                isDisabled={handset.state !== "answered"}
              >
                {key}
              </Button>
            ))}
          </Pad>
          <Level $at={handset.level} aria-hidden />
        </>
      )}
    </>
  );
}

function Calls({ channel }: { channel: Channel }) {
  const calls = useQuery({
    queryKey: ["calls", channel.name],
    queryFn: () => api.callsOf(channel.name),
  });
  const found = calls.data?.items ?? [];
  return (
    <>
      <h3>Calls</h3>
      {calls.error && <ErrorNote role="alert">{calls.error.message}</ErrorNote>}
      {found.length === 0 ? (
        <p>There were none yet.</p>
      ) : (
        <Table>
          <thead>
            <tr>
              <th>at</th>
              <th>with</th>
              <th>length</th>
              <th>state</th>
            </tr>
          </thead>
          <tbody>
            {found.map((each) => (
              <tr key={each.id}>
                <td>
                  <Link to={`/calls/${each.id}`}>{timeOf(each.requested_at)}</Link>
                </td>
                <td>{each.direction === "in" ? `from ${each.caller}` : `to ${each.number}`}</td>
                <td>{each.seconds === null ? "" : playingTime(each.seconds)}</td>
                <td>
                  <Mark
                    $kind={each.answered_at ? "good" : each.state === "ended" ? "bad" : "plain"}
                  >
                    {each.state === "ended" ? causeOf(each.cause) : each.state}
                  </Mark>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </>
  );
}
