import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

type Happened = { type: string; subject: string; data: { conversation?: string } };
type Told = { live: boolean } | { happened: Happened } | { asks: true };

const NAME = "fond-echo events";

/** Follows the service's events and reads again what they are about. Gives whether it is live.
 *
 * One tab follows them for all of its browser, which opens six connections to a host and no more;
 * when it is closed, another does. */
export function useLive(): boolean {
  const queries = useQueryClient();
  const [live, setLive] = useState(false);
  useEffect(() => {
    const channel = new BroadcastChannel(NAME);
    const leaving = new AbortController();
    let lit = false;
    let leads = false;
    const hear = (told: Told) => {
      if ("asks" in told) {
        if (leads) channel.postMessage({ live: lit } satisfies Told);
      } else if ("live" in told) {
        lit = told.live;
        setLive(told.live);
        // What happened while nobody listened is read now.
        if (told.live) void queries.invalidateQueries();
        else void queries.invalidateQueries({ queryKey: ["me"] });
      } else readAgain(queries, told.happened);
    };
    const tell = (told: Told) => {
      hear(told);
      channel.postMessage(told);
    };
    channel.onmessage = (message: MessageEvent<Told>) => hear(message.data);
    channel.postMessage({ asks: true } satisfies Told);
    const lead = () => {
      leads = true;
      const source = new EventSource("/api/events");
      source.onopen = () => tell({ live: true });
      source.onerror = () => tell({ live: false });
      source.addEventListener("happened", (message) =>
        tell({ happened: JSON.parse(message.data) }),
      );
      return new Promise<void>((done) => {
        leaving.signal.addEventListener("abort", () => {
          source.close();
          done();
        });
      });
    };
    // Without locks, as on a page that came over plain HTTP from afar, each tab follows by itself.
    if (navigator.locks)
      navigator.locks.request(NAME, { signal: leaving.signal }, lead).catch(() => undefined);
    else void lead();
    return () => {
      leaving.abort();
      channel.close();
    };
  }, [queries]);
  return live;
}

function readAgain(queries: QueryClient, event: Happened) {
  const again = (...queryKey: string[]) => void queries.invalidateQueries({ queryKey });
  if (/\.assistant\./.test(event.type)) {
    again("assistants");
    again("draft", event.subject);
    again("revisions", event.subject);
  }
  if (/\.(channel|contact)\./.test(event.type)) {
    again("channels");
    again("contacts");
  }
  if (/\.call\./.test(event.type)) {
    again("calls");
    again("call", event.subject);
  }
  if (event.data.conversation === undefined) return;
  again("conversations");
  again("conversation", event.data.conversation);
  again("turns", event.data.conversation);
  again("turn", event.subject);
}
