import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

type Happened = { type: string; subject: string; data: { conversation?: string } };

/** Follows the service's events and reads again what they are about. Gives whether it is live. */
export function useLive(): boolean {
  const queries = useQueryClient();
  const [live, setLive] = useState(false);
  useEffect(() => {
    const source = new EventSource("/api/events");
    source.onopen = () => {
      setLive(true);
      // What happened while nobody listened is read now.
      void queries.invalidateQueries();
    };
    source.onerror = () => setLive(false);
    source.addEventListener("happened", (message) => {
      const event: Happened = JSON.parse(message.data);
      if (/\.(line|contact)\./.test(event.type)) {
        void queries.invalidateQueries({ queryKey: ["lines"] });
        void queries.invalidateQueries({ queryKey: ["contacts"] });
      }
      if (/\.call\./.test(event.type)) {
        void queries.invalidateQueries({ queryKey: ["calls"] });
        void queries.invalidateQueries({ queryKey: ["call", event.subject] });
      }
      if (event.data.conversation === undefined) return;
      void queries.invalidateQueries({ queryKey: ["conversations"] });
      void queries.invalidateQueries({ queryKey: ["turns", event.data.conversation] });
      void queries.invalidateQueries({ queryKey: ["turn", event.subject] });
    });
    return () => source.close();
  }, [queries]);
  return live;
}
