import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Tab, TabList, TabPanel, Tabs } from "react-aria-components";
import { Link, NavLink, useNavigate, useParams } from "react-router";
import styled from "styled-components";
import { api, type Channel } from "../api";
import { timeOf } from "../format";
import { Button, Code, Copy, Mark, Row, Sheet, Table, Text, ErrorNote } from "../parts/sheet";
import { colour } from "../theme";
import { NewChannel } from "./new-channel";
import { PhoneChannel } from "./phone";

const Two = styled.div`
  display: grid;
  grid-template-columns: 15rem minmax(0, 1fr);
  min-height: 0;
  height: 100%;
  nav {
    border-right: 1px solid ${colour.rule};
    padding: 0.9rem 0;
    overflow-y: auto;
  }
  nav a {
    display: grid;
    padding: 0.55rem 1rem;
    border-left: 4px solid transparent;
    color: inherit;
    text-decoration: none;
  }
  nav a[aria-current="page"] {
    background: ${colour.sheet};
    border-left-color: ${colour.buoy};
  }
  nav small {
    color: ${colour.faded};
  }
  @media (max-width: 860px) {
    display: block;
    overflow-y: auto;
  }
`;

const Panels = styled(Tabs)`
  [role="tablist"] {
    display: flex;
    gap: 1.2rem;
    border-bottom: 1px solid ${colour.rule};
    margin: 0.6rem 0;
  }
  [role="tab"] {
    padding: 0.3rem 0;
    cursor: pointer;
    border-bottom: 3px solid transparent;
  }
  [role="tab"][data-selected] {
    border-bottom-color: ${colour.buoy};
    font-weight: 600;
  }
`;

const good = (channel: Channel) => (channel.state === "not-connected" ? "bad" : "good");

/** All channels, and one of them. */
export function Channels() {
  const { channel = "" } = useParams();
  const channels = useQuery({ queryKey: ["channels"], queryFn: api.channels });
  if (channels.isPending) return null;
  if (channels.error)
    return <Sheet role="alert">The channels cannot be read: {channels.error.message}</Sheet>;
  const chosen = channels.data.find((each) => each.name === channel) ?? channels.data[0];
  if (!chosen) return <NewChannel />;
  return (
    <Two>
      <nav aria-label="Channels">
        {channels.data.map((each) => (
          <NavLink
            key={each.name}
            to={`/channels/${each.name}`}
            aria-current={each === chosen && channel !== "-new" ? "page" : undefined}
          >
            <b>{each.name}</b>
            <small>
              {each.kind}, {each.state}
              {each.refused > 0 && `, ${each.refused} refused`}
            </small>
          </NavLink>
        ))}
        <NavLink to="/channels/-new" aria-current={channel === "-new" ? "page" : undefined}>
          New channel
        </NavLink>
      </nav>
      {channel === "-new" ? <NewChannel /> : <OneChannel key={chosen.name} channel={chosen} />}
    </Two>
  );
}

function OneChannel({ channel }: { channel: Channel }) {
  const queries = useQueryClient();
  const connect = useMutation({
    mutationFn: () => api.connect(channel.name),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["channels"] }),
  });
  return (
    <Sheet>
      <h2>{channel.name}</h2>
      <p>
        <Mark $kind={good(channel)}>{channel.state}</Mark>, answered by {channel.assistant}
      </p>
      {channel.reason && <ErrorNote role="alert">{channel.reason}</ErrorNote>}
      <Row>
        {(channel.kind === "chat" || channel.kind === "adapter") && (
          <Button onPress={() => connect.mutate()} isDisabled={connect.isPending}>
            Connect again
          </Button>
        )}
        {channel.kind === "page" && (
          <a href={channel.address} target="_blank" rel="noreferrer">
            Open the page
          </a>
        )}
      </Row>
      <h3>Address</h3>
      <Copy text={channel.address} what="the channel's address" />
      {channel.kind === "http" && <Asked channel={channel} />}
      {channel.kind === "phone" && <PhoneChannel channel={channel} />}
      <Refused channel={channel} />
      <Listening channel={channel} />
      <h3>Settings</h3>
      <Code>{JSON.stringify(channel.settings, null, 2)}</Code>
      {channel.connector && (
        <>
          <h3>{channel.kind === "adapter" ? "Adapter" : "Description"}</h3>
          <Code>{channel.connector}</Code>
        </>
      )}
    </Sheet>
  );
}

/** A try from here, and requests to copy. */
function Asked({ channel }: { channel: Channel }) {
  const [text, setText] = useState("");
  const [key, setKey] = useState("");
  const go = useNavigate();
  const requests = useQuery({
    queryKey: ["requests", channel.name],
    queryFn: () => api.requests(channel.name),
  });
  const trying = useMutation({ mutationFn: () => api.ask(channel.name, text) });
  const making = useMutation({
    mutationFn: () => api.makeKey(`requests to ${channel.name}`, ["operate"]),
    onSuccess: (made) => setKey(made.key),
  });
  const withKey = (text: string) => (key ? text.replaceAll("YOUR-KEY", key) : text);
  return (
    <>
      <h3>Test</h3>
      <Row>
        <Text
          label="Ask it something"
          value={text}
          onChange={setText}
          placeholder="How much is a ticket?"
        />
        <Button onPress={() => trying.mutate()} isDisabled={!text || trying.isPending}>
          Ask
        </Button>
      </Row>
      {trying.error && <ErrorNote role="alert">{trying.error.message}</ErrorNote>}
      {trying.data && (
        <>
          <Code aria-label="The answer">{trying.data.answer}</Code>
          <Button onPress={() => void go(`/turns/${trying.data.turn}`)}>See the turn</Button>
        </>
      )}
      <h3>Example requests</h3>
      <Row>
        <Button onPress={() => making.mutate()} isDisabled={making.isPending || Boolean(key)}>
          {key ? "A new key stands in them" : "Put a new key in"}
        </Button>
        {making.error && <ErrorNote role="alert">{making.error.message}</ErrorNote>}
      </Row>
      {requests.data && (
        <Panels>
          <TabList aria-label="Languages">
            <Tab id="curl">curl</Tab>
            <Tab id="sound">curl, with sound</Tab>
            <Tab id="python">Python</Tab>
            <Tab id="javascript">JavaScript</Tab>
            <Tab id="answer">An answer</Tab>
            <Tab id="schema">Its schema</Tab>
          </TabList>
          <TabPanel id="curl">
            <Copy text={withKey(requests.data.curl)} what="curl" />
          </TabPanel>
          <TabPanel id="sound">
            <Copy text={withKey(requests.data.curl_with_sound)} what="curl with sound" />
          </TabPanel>
          <TabPanel id="python">
            <Copy text={withKey(requests.data.python)} what="Python" />
          </TabPanel>
          <TabPanel id="javascript">
            <Copy text={withKey(requests.data.javascript)} what="JavaScript" />
          </TabPanel>
          <TabPanel id="answer">
            <Code tabIndex={0}>{JSON.stringify(requests.data.answer, null, 2)}</Code>
          </TabPanel>
          <TabPanel id="schema">
            <Code tabIndex={0}>{JSON.stringify(requests.data.answer_schema, null, 2)}</Code>
          </TabPanel>
        </Panels>
      )}
    </>
  );
}

function Refused({ channel }: { channel: Channel }) {
  const queries = useQueryClient();
  const contacts = useQuery({
    queryKey: ["contacts", channel.name, "refused"],
    queryFn: () => api.contacts(channel.name, "refused"),
  });
  const allow = useMutation({
    mutationFn: (id: string) => api.setStanding(channel.name, id, "allowed"),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["contacts", channel.name] });
      void queries.invalidateQueries({ queryKey: ["channels"] });
    },
  });
  const refused = contacts.data?.items ?? [];
  return (
    <>
      <h3>Refused</h3>
      {refused.length === 0 ? (
        <p>Nobody was refused.</p>
      ) : (
        <Table>
          <tbody>
            {refused.map((each) => (
              <tr key={each.id}>
                <td>{each.name || "without a name"}</td>
                <td>{each.external_id}</td>
                <td>
                  <Button onPress={() => allow.mutate(each.id)}>Allow</Button>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </>
  );
}

/** The latest messages as the network sent them. */
function Listening({ channel }: { channel: Channel }) {
  const turns = useQuery({
    queryKey: ["arrived", channel.name],
    queryFn: () => api.turnsOfChannel(channel.name),
    refetchInterval: 3_000,
  });
  const latest = turns.data?.items[0];
  const detail = useQuery({
    queryKey: ["turn", latest?.id],
    queryFn: () => api.turn(latest!.id),
    enabled: Boolean(latest),
  });
  return (
    <>
      <h3>Listening</h3>
      {!latest && <p>Nothing has come in over this channel yet; it shows here as it does.</p>}
      {latest && (
        <>
          <p>
            The latest of {channel.name} at {timeOf(latest.received_at)}:{" "}
            <Link to={`/turns/${latest.id}`}>{latest.text || latest.arrived_as}</Link>
          </p>
          {detail.data && <Code>{JSON.stringify(detail.data.inbound, null, 2)}</Code>}
        </>
      )}
    </>
  );
}
