/** How times, lengths and sizes are written. */

const clock = new Intl.DateTimeFormat(undefined, {
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  hourCycle: "h23",
});
const dayName = new Intl.DateTimeFormat(undefined, {
  weekday: "long",
  day: "numeric",
  month: "long",
});

export const timeOf = (at: string) => clock.format(new Date(at));
export const dayOf = (at: string) => dayName.format(new Date(at));

export function milliseconds(seconds: number): string {
  if (seconds >= 10) return `${seconds.toFixed(0)} s`;
  if (seconds >= 1) return `${seconds.toFixed(2)} s`;
  return `${Math.round(seconds * 1000)} ms`;
}

export function playingTime(seconds: number): string {
  if (seconds < 60) return `${seconds.toFixed(1)} s`;
  const whole = Math.max(0, Math.round(seconds));
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")}`;
}

export const bytes = (count: number) =>
  count < 1000
    ? `${count} B`
    : count < 1e6
      ? `${(count / 1000).toFixed(1)} kB`
      : `${(count / 1e6).toFixed(1)} MB`;

const ARRIVALS: Record<string, string> = {
  text: "typed",
  "voice-note": "voice note",
  speech: "said in a call",
  key: "pressed in a call",
  "audio-file": "sound file",
  file: "file",
  choice: "chose",
  joined: "came",
};

const CAUSES: Record<string, string> = {
  "hung-up": "hung up",
  "no-answer": "nobody answered",
  "no-ack": "the answer was not confirmed",
  unreachable: "not reached",
  vanished: "the other side vanished",
  transferred: "connected on",
  lost: "our process stopped",
};

/** Why a call ended. */
export const causeOf = (cause: string) => CAUSES[cause] ?? cause;

export const arrival = (kind: string) => ARRIVALS[kind] ?? kind;
