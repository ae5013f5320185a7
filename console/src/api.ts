/** The API as the console uses it. */

export type Me = { name: string; scopes: string[]; csrf_token: string; version: string };

export type Clip = {
  id: string;
  media_type: string;
  size: number;
  seconds: number | null;
  waveform: number[];
};

export type Failure = { stage: string; code: string; what: string; remedy?: string };

export type Conversation = {
  id: string;
  channel: string;
  contact_name: string;
  turns: number;
  answering: string;
  changed_at: string;
  last_text: string;
};

export type Delivery = {
  id: string;
  kind: string;
  state: string;
  text: string;
  clip: Clip | null;
  attempts: number;
  external_id: string;
  error: Failure | null;
  planned_at: string;
  settled_at: string | null;
};

export type Turn = {
  id: string;
  conversation: string;
  channel: string;
  contact_name: string;
  number: number;
  cause: string;
  arrived_as: string;
  text: string;
  route: string;
  state: string;
  error: Failure | null;
  sound: Clip | null;
  deliveries: Delivery[];
  received_at: string;
  finished_at: string | null;
  sound_erased_at: string | null;
  erased_at: string | null;
};

export type Stage = {
  name: string;
  part: number;
  attempt: number;
  started_at: string;
  seconds: number;
  outcome: string;
  input: Record<string, unknown>;
  output: Record<string, any>;
  error: Failure | null;
  erased_at: string | null;
};

export type Run = { id: string; kind: string; revision: string; stages: Stage[] };

export type TurnDetail = Turn & { runs: Run[]; inbound: Record<string, unknown> };

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
  conversations: () => call<Page<Conversation>>("GET", "/api/conversations?limit=100"),
  // Earlier pages are larger: who reads on, or follows an address to an old turn, needs many.
  turns: (conversation: string, after = "") =>
    call<Page<Turn>>("GET", `/api/turns?${new URLSearchParams({ conversation, after, limit: after ? "200" : "50" })}`),
  turn: (id: string) => call<TurnDetail>("GET", `/api/turns/${encodeURIComponent(id)}`),
  turnsOfChannel: (channel: string) => call<Page<Turn>>("GET", `/api/turns?${new URLSearchParams({ channel, limit: "1" })}`),
  retry: (id: string) => call<TurnDetail>("POST", `/api/turns/${id}/retry`),
  decide: (turn: string, delivery: string, decision: string) =>
    call<TurnDetail>("POST", `/api/turns/${turn}/deliveries/${delivery}/decision`, { decision }),
  assistants: () => call<Assistant[]>("GET", "/api/assistants"),
  draft: (name: string) => call<{ files: Files; revision: string }>("GET", `/api/assistants/${name}/draft`),
  putDraft: (name: string, files: Files, onto: string) =>
    call<Assistant>("PUT", `/api/assistants/${name}/draft`, { files, onto }),
  publish: (name: string, revision: string) =>
    call<Assistant>("POST", `/api/assistants/${name}/publish?${new URLSearchParams({ revision })}`),
  checkFiles: (files: Files) => call<Checked>("POST", "/api/assistants/check", { files }),
  tryAssistant: (name: string, given: TryIn) => call<Tried>("POST", `/api/assistants/${name}/try`, given),
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
  ask: (channel: string, text: string) => call<Asked>("POST", `/ask/${channel}`, { text, contact: "console" }),
  contacts: (channel: string, standing: string) =>
    call<Page<Contact>>("GET", `/api/channels/${channel}/contacts?${new URLSearchParams({ standing })}`),
  setStanding: (channel: string, id: string, standing: string) =>
    call<Contact>("PUT", `/api/channels/${channel}/contacts/${id}/standing`, { standing }),
  keys: () => call<Key[]>("GET", "/api/keys"),
  makeKey: (name: string, scopes: string[]) => call<Key & { key: string }>("POST", "/api/keys", { name, scopes }),
  revokeKey: (id: string) => call<Key>("DELETE", `/api/keys/${id}`),
  secrets: () => call<Secret[]>("GET", "/api/secrets"),
  putSecret: (name: string, value: string, hosts: string[]) =>
    call<Secret>("PUT", `/api/secrets/${encodeURIComponent(name)}`, { value, hosts }),
  deleteSecret: (name: string) => call<void>("DELETE", `/api/secrets/${name}`),
  subscriptions: () => call<Subscription[]>("GET", "/api/subscriptions"),
  subscribe: (address: string, secret: string, types: string[]) =>
    call<Subscription>("POST", "/api/subscriptions", { address, secret, types }),
  unsubscribe: (id: string) => call<void>("DELETE", `/api/subscriptions/${id}`),
  sendAgain: (id: string) => call<Subscription>("POST", `/api/subscriptions/${id}/dead-letters/resend`),
};

export const soundAddress = (clip: Clip) => `/api/clips/${encodeURIComponent(clip.id)}/sound`;

export type Files = Record<string, string>;
export type Assistant = { name: string; draft: string | null; live: string | null };
export type FileError = { file: string; line: number; column: number; what: string; remedy: string };
export type Checked = { errors: FileError[]; warnings: FileError[] };
export type TryIn = { text: string; sound?: string; choice?: string; files?: Files; state?: Record<string, unknown> };
export type Revision = { digest: string; stored_at: string; draft: boolean; live: boolean };

export type Tried = {
  heard: { written: string; confidence: number; source: string } | null;
  route: string;
  by: string;
  because: string;
  scores: { route: string; score: number; confidence: number; because: string }[];
  slots: Record<string, unknown>;
  replies: { text: string; spoken: string; choices: { label: string; value: string }[] }[];
  not_run: string;
  state: Record<string, unknown>;
};

export type Channel = {
  name: string;
  kind: string;
  assistant: string;
  state: string;
  reason: string;
  description: string;
  settings: Record<string, unknown>;
  facts: { registrars?: { registrar: string; state: string; reason: string }[] };
  address: string;
  refused: number;
};

export type Contact = { id: string; external_id: string; name: string; standing: string };
export type Key = { id: string; name: string; scopes: string[]; used_at: string | null; revoked_at: string | null };
export type Secret = { name: string; hosts: string[] };
export type Subscription = { id: string; address: string; types: string[]; waiting: number; dead: number };
export type Requests = { address: string; curl: string; curl_with_sound: string; python: string; javascript: string };

export type Asked = {
  turn: string;
  state: string;
  text: string;
  heard: { written: string; confidence: number } | null;
  answer: string;
  choices: { label: string; value: string }[];
  sound: { link: string; seconds: number | null; waveform: number[] } | null;
};

export type Happening = { at: number | null; kind: string; about: Record<string, unknown> };
export type TwoWaveforms = { per_second: number; theirs: number[]; ours: number[] };

export type Call = {
  id: string;
  channel: string;
  direction: "in" | "out";
  caller: string;
  number: string;
  state: string;
  cause: string;
  by: string;
  answerer: string;
  asked_at: string;
  due_at: string | null;
  answered_at: string | null;
  seconds: number | null;
};

export type CallDetail = Call & {
  timeline: Happening[];
  quality: { mos: number; loss: number; jitter_ms: number; unknown_source_packets: number } | null;
  recording: Clip | null;
  waveforms: TwoWaveforms | null;
};
