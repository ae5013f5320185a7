import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Component, lazy, type ReactNode, Suspense, useState } from "react";
import { Button, ToggleButton } from "react-aria-components";
import { Navigate, NavLink, Route, Routes } from "react-router";
import styled from "styled-components";
import { api, Problem } from "./api";
import { useLive } from "./live";
import { CallPage } from "./call/call";
import { SpeechPage } from "./speech/speech";
import { EnginesPage } from "./engines/engines";
import { KeysPage } from "./keys/keys";
import { Channels } from "./channels/channels";
import { ConversationsPage } from "./conversations/page";
import { SignIn } from "./sign-in";
import { Button as Again, Sheet } from "./parts/sheet";
import { colour, font, keepLight } from "./theme";
import { TurnPage } from "./turn/turn";

// The editor is large, and only here.
const Assistants = lazy(() =>
  import("./assistant/assistant").then((each) => ({ default: each.Assistants })),
);

const Desk = styled.div`
  display: grid;
  grid-template-columns: 11.5rem minmax(0, 1fr);
  height: 100%;
  @media (max-width: 860px) {
    grid-template-columns: 1fr;
    grid-template-rows: auto minmax(0, 1fr);
  }
`;

const Spine = styled.header`
  display: flex;
  flex-direction: column;
  gap: 1.25rem;
  padding: 1.1rem 1rem;
  background: ${colour.spine};
  color: ${colour.lettering};
  a {
    color: inherit;
    text-decoration: none;
  }
  @media (max-width: 860px) {
    flex-direction: row;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.2rem 1rem;
    padding: 0.5rem 1rem;
  }
`;

const Name = styled.h1`
  margin: 0;
  font: 600 1.3rem/1.1 ${font.book};
  white-space: nowrap;
  letter-spacing: -0.01em;
  &::after {
    content: "";
    display: block;
    width: 2.2rem;
    margin-top: 0.45rem;
    border-top: 3px double currentColor;
    opacity: 0.6;
  }
`;

const Pages = styled.nav`
  flex: 1;
  a {
    display: block;
    padding: 0.3rem 0;
    border-bottom: 1px solid transparent;
  }
  a[aria-current="page"] {
    border-bottom-color: currentColor;
    font-weight: 600;
  }
`;

const Foot = styled.div`
  display: grid;
  gap: 0.45rem;
  font-size: 0.85rem;
  button {
    justify-self: start;
    background: none;
    border: 0;
    padding: 0;
    cursor: pointer;
    text-decoration: underline;
    text-underline-offset: 3px;
  }
  @media (max-width: 860px) {
    grid-auto-flow: column;
    gap: 0.9rem;
    white-space: nowrap;
  }
`;

const Lamp = styled.span<{ $lit: boolean }>`
  &::before {
    content: "";
    display: inline-block;
    width: 0.55rem;
    height: 0.55rem;
    margin-right: 0.5rem;
    border-radius: 50%;
    border: 1.5px solid currentColor;
    background: ${(props) => (props.$lit ? "currentColor" : "transparent")};
  }
`;

/** Says so where a page breaks, or a part of it cannot be loaded, as after an upgrade. */
class Whole extends Component<{ children: ReactNode }, { broken: string }> {
  state = { broken: "" };
  static getDerivedStateFromError(error: Error) {
    return { broken: error.message || "something broke" };
  }
  render() {
    if (!this.state.broken) return this.props.children;
    return (
      <Sheet role="alert">
        <h2>This page cannot be shown</h2>
        <p>{this.state.broken}</p>
        <Again onPress={() => location.reload()}>Load it again</Again>
      </Sheet>
    );
  }
}

function Light() {
  const dark = matchMedia("(prefers-color-scheme: dark)").matches;
  const chosen = document.documentElement.dataset.light;
  const [night, setNight] = useState(chosen ? chosen === "night" : dark);
  return (
    <ToggleButton
      isSelected={night}
      onChange={(chosen) => {
        keepLight(chosen ? "night" : "day");
        setNight(chosen);
      }}
    >
      {night ? "Light theme" : "Dark theme"}
    </ToggleButton>
  );
}

function Inside({ name }: { name: string }) {
  const live = useLive();
  const queries = useQueryClient();
  const leave = async () => {
    await api.signOut();
    queries.clear();
    location.assign("/");
  };
  return (
    <Desk>
      <Spine>
        <Name>Fond Echo</Name>
        <Pages aria-label="Pages">
          <NavLink to="/conversations">Conversations</NavLink>
          <NavLink to="/assistants">Assistants</NavLink>
          <NavLink to="/channels">Channels</NavLink>
          <NavLink to="/speech">Speech</NavLink>
          <NavLink to="/engines">Engines</NavLink>
          <NavLink to="/keys">Keys and events</NavLink>
        </Pages>
        <Foot>
          <Lamp $lit={live} role="status">
            {live ? "connected" : "disconnected"}
          </Lamp>
          <Light />
          <span>key: {name}</span>
          <Button onPress={() => void leave()}>Sign out</Button>
        </Foot>
      </Spine>
      <Whole>
        <Suspense fallback={null}>
          <Routes>
            <Route path="/conversations" element={<ConversationsPage />} />
            <Route path="/conversations/:conversation" element={<ConversationsPage />} />
            <Route path="/conversations/:conversation/:turn" element={<ConversationsPage />} />
            <Route path="/calls/:call" element={<CallPage />} />
            <Route path="/turns/:turn" element={<TurnPage />} />
            <Route path="/assistants" element={<Assistants />} />
            <Route path="/assistants/:assistant" element={<Assistants />} />
            <Route path="/channels" element={<Channels />} />
            <Route path="/channels/:channel" element={<Channels />} />
            <Route path="/speech" element={<SpeechPage />} />
            <Route path="/engines" element={<EnginesPage />} />
            <Route path="/keys" element={<KeysPage />} />
            <Route path="*" element={<Navigate to="/conversations" replace />} />
          </Routes>
        </Suspense>
      </Whole>
    </Desk>
  );
}

export function App() {
  const me = useQuery({ queryKey: ["me"], queryFn: api.me, staleTime: Infinity });
  if (me.isPending) return null;
  if (me.data) return <Inside name={me.data.name} />;
  const asked = me.error instanceof Problem && me.error.status === 401;
  return <SignIn problem={asked ? "" : me.error.message} />;
}
