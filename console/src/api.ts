/** The API as the console uses it. */

import type { components } from "./contract";

// Made of the service's own document (npm run types); names as the console says them.
type Shapes = components["schemas"];
/** As the service answers: what has a default is always there. */
type Filled<T> = T extends (infer Item)[]
  ? Filled<Item>[]
  : T extends object
    ? { [Name in keyof T]-?: Filled<Exclude<T[Name], undefined>> }
    : T;
type Out<Name extends keyof Shapes> = Filled<Shapes[Name]>;
/** A shape with narrower types than the OpenAPI document has. */
type With<Shape, Facts> = Omit<Shape, keyof Facts> & Facts;
export type Me = Out<"Me">;
export type Clip = Out<"ClipRef">;
export type Failure = { stage: string; code: string; what: string; remedy?: string };
export type Conversation = Out<"ConversationOut">;
export type Delivery = With<Out<"DeliveryOut">, { error: Failure | null }>;
export type Turn = With<Out<"TurnOut">, { error: Failure | null; deliveries: Delivery[] }>;
// What a stage gave differs with its name.
// eslint-disable-next-line @typescript-eslint/no-explicit-any
export type Stage = With<Out<"StageOut">, { error: Failure | null; output: Record<string, any> }>;
export type Run = With<Out<"RunOut">, { stages: Stage[] }>;
export type TurnDetail = Turn &
  With<Out<"TurnDetail">, { error: Failure | null; deliveries: Delivery[]; runs: Run[] }>;
export type ChannelIn = Partial<Out<"ChannelIn">> & { assistant: string };
export type Engine = Out<"EngineOut">;
export type EngineAsked = Out<"EngineAsked">;
export type Bench = Out<"BenchOut">;
export type BenchDetail = Out<"BenchDetail">;
export type BenchAnswer = BenchDetail["answers"][number];
export type Standing = Bench["ranked"][number];
export type EngineTrial = Out<"EngineTrialOut">;
export type Page<Item> = { items: Item[]; next: string };

export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly remedy: string,
  ) {
    super(detail);
  }
}

let csrfToken = "";

async function call<Answer>(method: string, path: string, body?: unknown): Promise<Answer> {
  const response = await fetch(path, {
    method,
    headers: {
      ...(body === undefined ? {} : { "Content-Type": "application/json" }),
      ...(method === "GET" ? {} : { "X-CSRF-Token": csrfToken }),
    },
    body: body === undefined ? undefined : JSON.stringify(body),
  });
  if (!response.ok) {
    const told = await response.json().catch(() => ({}));
    throw new Problem(response.status, told.detail ?? response.statusText, told.remedy ?? "");
  }
  return response.status === 204 ? (undefined as Answer) : response.json();
}

function signedIn(me: Me): Me {
  csrfToken = me.csrf_token;
  return me;
}

export const api = {
  me: async () => signedIn(await call<Me>("GET", "/api/me")),
  signIn: async (key: string) => signedIn(await call<Me>("POST", "/api/me", { key })),
  signOut: () => call<void>("DELETE", "/api/me"),
  conversations: (cursor = "") =>
    call<Page<Conversation>>(
      "GET",
      `/api/conversations?${new URLSearchParams({ cursor, limit: "100" })}`,
    ),
  conversation: (id: string) =>
    call<Conversation>("GET", `/api/conversations/${encodeURIComponent(id)}`),
  // Earlier pages are larger: who reads on, or follows an address to an old turn, needs many.
  turns: (conversation: string, cursor = "") =>
    call<Page<Turn>>(
      "GET",
      `/api/turns?${new URLSearchParams({ conversation, cursor, limit: cursor ? "200" : "50" })}`,
    ),
  turn: (id: string) => call<TurnDetail>("GET", `/api/turns/${encodeURIComponent(id)}`),
  turnsOfChannel: (channel: string) =>
    call<Page<Turn>>("GET", `/api/turns?${new URLSearchParams({ channel, limit: "1" })}`),
  retry: (id: string) => call<TurnDetail>("POST", `/api/turns/${id}/retry`),
  decide: (turn: string, delivery: string, decision: string) =>
    call<TurnDetail>("POST", `/api/turns/${turn}/deliveries/${delivery}/decision`, { decision }),
  assistants: () => call<Assistant[]>("GET", "/api/assistants"),
  draft: (name: string) =>
    call<{ files: Files; revision: string }>("GET", `/api/assistants/${name}/draft`),
  correct: (id: string, route: string, example: string, name: string) =>
    call<Out<"CorrectionOut">>("POST", `/api/turns/${id}/correction`, {
      route,
      example,
      case: name,
    }),
  starter: (name: string) => call<{ files: Files }>("GET", `/api/assistants/${name}/starter`),
  putChannel: (name: string, given: ChannelIn) =>
    call<Channel>("PUT", `/api/channels/${name}`, given),
  putDraft: (name: string, files: Files, ifRevision: string) =>
    call<Assistant>("PUT", `/api/assistants/${name}/draft`, { files, if_revision: ifRevision }),
  publish: (name: string, revision: string, force = false) =>
    call<Assistant>("POST", `/api/assistants/${name}/publish`, { revision, force }),
  replay: (turn: string, revision: string, begin: ReplayBegin) =>
    call<Replay>("POST", `/api/turns/${turn}/replays`, { revision, begin }),
  asCase: (turn: string, name: string) =>
    call<KeptCase>("GET", `/api/turns/${turn}/case?${new URLSearchParams({ name })}`),
  runCases: (name: string, files: Files) =>
    call<CaseRun>("POST", `/api/assistants/${name}/cases/runs`, { files }),
  gaps: (name: string) => call<Gap[]>("GET", `/api/assistants/${name}/gaps`),
  checkFiles: (files: Files) => call<Checked>("POST", "/api/assistants/check", { files }),
  tryAssistant: (name: string, given: TryIn) =>
    call<Tried>("POST", `/api/assistants/${name}/try`, given),
  revisions: (name: string) => call<Revision[]>("GET", `/api/assistants/${name}/revisions`),
  sayTo: (conversation: string, text: string) =>
    call<TurnDetail>("POST", `/api/conversations/${conversation}/messages`, { text }),
  setAnswering: (conversation: string, by: string) =>
    call<unknown>("PUT", `/api/conversations/${conversation}/answering`, { by }),
  channels: () => call<Channel[]>("GET", "/api/channels"),
  callsOf: (channel: string) => call<Page<Call>>("GET", `/api/channels/${channel}/calls?limit=30`),
  callOf: (id: string) => call<CallDetail>("GET", `/api/calls/${encodeURIComponent(id)}`),
  endCall: (id: string) => call<CallDetail>("POST", `/api/calls/${encodeURIComponent(id)}/end`),
  connect: (channel: string) => call<Channel>("POST", `/api/channels/${channel}/connect`),
  requests: (channel: string) => call<Requests>("GET", `/api/channels/${channel}/requests`),
  ask: (channel: string, text: string) =>
    call<Asked>("POST", `/ask/${channel}`, { text, contact: "console" }),
  contacts: (channel: string, standing: string) =>
    call<Page<Contact>>(
      "GET",
      `/api/channels/${channel}/contacts?${new URLSearchParams({ standing })}`,
    ),
  setStanding: (channel: string, id: string, standing: string) =>
    call<Contact>("PUT", `/api/channels/${channel}/contacts/${id}/standing`, { standing }),
  keys: () => call<Key[]>("GET", "/api/keys"),
  makeKey: (name: string, scopes: string[]) =>
    call<Key & { key: string }>("POST", "/api/keys", { name, scopes }),
  revokeKey: (id: string) => call<Key>("DELETE", `/api/keys/${id}`),
  engines: () => call<Engine[]>("GET", "/api/engines"),
  putEngine: (name: string, connector: string, base: string) =>
    call<Engine>("PUT", `/api/engines/${name}`, { connector, values: base ? { base } : {} }),
  deleteEngine: (name: string) => call<void>("DELETE", `/api/engines/${name}`),
  tryEngine: (name: string, text: string, to = "") =>
    call<EngineTrial>("POST", `/api/engines/${name}/trials`, { text, to }),
  benches: () => call<Bench[]>("GET", "/api/benches"),
  bench: (name: string) => call<BenchDetail>("GET", `/api/benches/${name}`),
  voices: () => call<Voice[]>("GET", "/api/speech/voices"),
  render: (given: RenditionIn) => call<Rendition>("POST", "/api/speech/renditions", given),
  schemaOf: async (name: string) =>
    (await call<{ components: { schemas: Record<string, unknown> } }>("GET", "/api/openapi.json"))
      .components.schemas[name],
  secrets: () => call<Secret[]>("GET", "/api/secrets"),
  putSecret: (name: string, value: string, hosts: string[]) =>
    call<Secret>("PUT", `/api/secrets/${encodeURIComponent(name)}`, { value, hosts }),
  deleteSecret: (name: string) => call<void>("DELETE", `/api/secrets/${name}`),
  subscriptions: () => call<Subscription[]>("GET", "/api/subscriptions"),
  subscribe: (address: string, secret: string, types: string[]) =>
    call<Subscription>("POST", "/api/subscriptions", { address, secret, types }),
  unsubscribe: (id: string) => call<void>("DELETE", `/api/subscriptions/${id}`),
  sendAgain: (id: string) =>
    call<Subscription>("POST", `/api/subscriptions/${id}/undelivered/retry`),
};

export const soundAddress = (clip: Clip) => `/api/clips/${encodeURIComponent(clip.id)}/sound`;

export type Files = Record<string, string>;
export type Assistant = Out<"AssistantOut">;
export type FileError = Out<"FileErrorOut">;
export type Checked = Out<"Checked">;
export type Replay = Out<"ReplayOut">;
export type ReplayBegin = "transcribe" | "route" | "answer";
export type KeptCase = Out<"KeptCase">;
export type CaseRun = Out<"CasesOut">;
export type Gap = Out<"GapOut">;
export type TryIn = Partial<Shapes["TryIn"]>;
export type Revision = Out<"RevisionOut">;
export type Tried = Out<"Tried">;
export type Channel = With<
  Out<"ChannelOut">,
  { facts: { registrars?: { registrar: string; state: string; reason: string }[] } }
>;
export type Contact = Out<"ContactOut">;
export type Key = Out<"KeyOut">;
export type Voice = Out<"VoiceOut">;
export type Rendition = Out<"RenditionOut">;
export type RenditionIn = {
  text: string;
  voice: string;
  format: string;
  deliver_as: string;
  prosody: { rate: number; pitch: number };
};
export type Secret = Out<"SecretOut">;
export type Subscription = Out<"SubscriptionOut">;
export type Requests = Out<"Requests">;
export type Asked = Out<"AskOut">;
export type Happening = Out<"Happening">;
export type TwoWaveforms = Out<"Waveforms">;
export type Call = Out<"CallOut">;
export type CallDetail = With<
  Out<"CallDetail">,
  {
    quality: {
      mos: number;
      loss: number;
      jitter_ms: number;
      unknown_source_packets: number;
    } | null;
  }
>;
