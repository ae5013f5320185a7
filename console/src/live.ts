import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

type Happened = { type: string; subject: string; data: { conversation?: string } };
type Told = { live: boolean } | { happened: Happened } | { asks: true };

const NAME = "fond-echo events";
const PAUSE = 200;

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
    const again = readingAgain(queries, leaving.signal);
    const hear = (told: Told) => {
      if ("asks" in told) {
        if (leads) channel.postMessage({ live: lit } satisfies Told);
      } else if ("live" in told) {
        lit = told.live;
        setLive(told.live);
        // What happened while nobody listened is read now.
        if (told.live) void queries.invalidateQueries();
        else void queries.invalidateQueries({ queryKey: ["me"] });
      } else readAgain(again, told.happened);
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

/** Reads again what is asked for, at once and then every PAUSE at most. What is being read is read to
 * its end first, however much happens meanwhile, and once more then. */
function readingAgain(queries: QueryClient, over: AbortSignal) {
  const due = new Map<string, string[]>();
  let waiting = 0;
  const read = () => {
    for (const [name, queryKey] of due) {
      if (queries.isFetching({ queryKey })) continue;
      due.delete(name);
      void queries.invalidateQueries({ queryKey });
    }
    waiting = due.size ? window.setTimeout(read, PAUSE) : 0;
  };
  over.addEventListener("abort", () => window.clearTimeout(waiting));
  return (...queryKey: string[]) => {
    due.set(queryKey.join(" "), queryKey);
    if (waiting) return;
    read();
    waiting ||= window.setTimeout(read, PAUSE);
  };
}

function readAgain(again: (...queryKey: string[]) => void, event: Happened) {
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
