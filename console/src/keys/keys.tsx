import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Radio } from "react-aria-components";
import { api } from "../api";
import { timeOf } from "../format";
import {
  Button,
  Code,
  Copy,
  Mark,
  Options,
  Row,
  Sheet,
  Table,
  Text,
  ErrorNote,
} from "../parts/sheet";

/** Keys, secrets, subscriptions and the events themselves. */
export function KeysPage() {
  return (
    <Sheet>
      <h2>Keys and events</h2>
      <p>Keys for programs and people, secrets, and subscriptions to events.</p>
      <Keys />
      <Secrets />
      <Subscriptions />
      <Happening />
    </Sheet>
  );
}

const SCOPES = ["read", "operate", "build", "admin"];

function Keys() {
  const queries = useQueryClient();
  const refresh = () => queries.invalidateQueries({ queryKey: ["keys"] });
  const keys = useQuery({ queryKey: ["keys"], queryFn: api.keys });
  const [name, setName] = useState("");
  const [scope, setScope] = useState("read");
  const making = useMutation({ mutationFn: () => api.makeKey(name, [scope]), onSuccess: refresh });
  const revoking = useMutation({ mutationFn: api.revokeKey, onSuccess: refresh });
  return (
    <>
      <h3>Keys</h3>
      {keys.error && <ErrorNote role="alert">{keys.error.message}</ErrorNote>}
      <Table>
        <tbody>
          {keys.data?.map((each) => (
            <tr key={each.id}>
              <td>{each.name}</td>
              <td>{each.scopes.join(", ")}</td>
              <td>{each.used_at ? `used ${timeOf(each.used_at)}` : "never used"}</td>
              <td>
                {each.revoked_at ? (
                  <Mark $kind="bad">revoked</Mark>
                ) : (
                  <Button
                    onPress={() => revoking.mutate(each.id)}
                    aria-label={`Revoke ${each.name}`}
                  >
                    Revoke
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      <Row>
        <Text label="Name of a new key" value={name} onChange={setName} />
        <Options aria-label="What it may do" value={scope} onChange={setScope}>
          {SCOPES.map((each) => (
            <Radio key={each} value={each}>
              {each}
            </Radio>
          ))}
        </Options>
        <Button onPress={() => making.mutate()} isDisabled={!name || making.isPending}>
          Create key
        </Button>
      </Row>
      {revoking.error && <ErrorNote role="alert">{revoking.error.message}</ErrorNote>}
      {making.data && (
        <>
          <p>Shown only now:</p>
          <Copy text={making.data.key} what={`the key ${making.data.name}`} />
        </>
      )}
    </>
  );
}

function Secrets() {
  const queries = useQueryClient();
  const refresh = () => queries.invalidateQueries({ queryKey: ["secrets"] });
  const secrets = useQuery({ queryKey: ["secrets"], queryFn: api.secrets });
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const [hosts, setHosts] = useState("");
  const putting = useMutation({
    mutationFn: () => api.putSecret(name, value, hosts.split(/[\s,]+/).filter(Boolean)),
    onSuccess: () => {
      setValue("");
      return refresh();
    },
  });
  const forgetting = useMutation({ mutationFn: api.deleteSecret, onSuccess: refresh });
  return (
    <>
      <h3>Secrets</h3>
      <Table>
        <tbody>
          {secrets.data?.map((each) => (
            <tr key={each.name}>
              <td>{each.name}</td>
              <td>{each.hosts.join(", ") || "goes to no host"}</td>
              <td>
                <Button
                  onPress={() => forgetting.mutate(each.name)}
                  aria-label={`Forget ${each.name}`}
                >
                  Delete
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      <Row>
        <Text label="Name" value={name} onChange={setName} placeholder="network-token" />
        <Text label="Value" value={value} onChange={setValue} type="password" />
        <Text
          label="Hosts it may go to"
          value={hosts}
          onChange={setHosts}
          placeholder="api.example"
        />
        <Button onPress={() => putting.mutate()} isDisabled={!name || !value || putting.isPending}>
          Save
        </Button>
      </Row>
      {putting.error && <ErrorNote role="alert">{putting.error.message}</ErrorNote>}
    </>
  );
}

function Subscriptions() {
  const queries = useQueryClient();
  const refresh = () => queries.invalidateQueries({ queryKey: ["subscriptions"] });
  const subscriptions = useQuery({
    queryKey: ["subscriptions"],
    queryFn: api.subscriptions,
    refetchInterval: 5_000,
  });
  const [address, setAddress] = useState("");
  const [secret, setSecret] = useState("");
  const adding = useMutation({
    mutationFn: () => api.subscribe(address, secret, []),
    onSuccess: refresh,
  });
  const again = useMutation({ mutationFn: api.sendAgain, onSuccess: refresh });
  const ending = useMutation({ mutationFn: api.unsubscribe, onSuccess: refresh });
  return (
    <>
      <h3>Subscriptions</h3>
      <Table>
        <tbody>
          {subscriptions.data?.map((each) => (
            <tr key={each.id}>
              <td>{each.address}</td>
              <td>{each.types.join(" ") || "all events"}</td>
              <td>
                {each.waiting} waiting,{" "}
                <Mark $kind={each.undelivered ? "bad" : "plain"}>
                  {each.undelivered} undelivered
                </Mark>
              </td>
              <td>
                <Row>
                  {each.undelivered > 0 && (
                    <Button onPress={() => again.mutate(each.id)}>Try again</Button>
                  )}
                  <Button onPress={() => ending.mutate(each.id)} aria-label={`End ${each.address}`}>
                    End
                  </Button>
                </Row>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      <Row>
        <Text
          label="Webhook address"
          value={address}
          onChange={setAddress}
          placeholder="https://…"
        />
        <Text label="Secret that signs" value={secret} onChange={setSecret} />
        <Button
          onPress={() => adding.mutate()}
          isDisabled={!address || !secret || adding.isPending}
        >
          Subscribe
        </Button>
      </Row>
      {adding.error && <ErrorNote role="alert">{adding.error.message}</ErrorNote>}
    </>
  );
}

function Happening() {
  const [lines, setLines] = useState<string[]>([]);
  useEffect(() => {
    const source = new EventSource("/api/events");
    source.addEventListener("happened", (message) => {
      const event = JSON.parse(message.data);
      const facts = Object.entries(event.data).map(([name, value]) => `${name}=${String(value)}`);
      const line = [timeOf(event.time), event.type.replace("fond-echo.", ""), ...facts].join("  ");
      setLines((before) => [line, ...before].slice(0, 40));
    });
    return () => source.close();
  }, []);
  return (
    <>
      <h3>As it happens</h3>
      <Code aria-live="polite" aria-label="Events">
        {lines.join("\n") || "Nothing yet."}
      </Code>
    </>
  );
}
