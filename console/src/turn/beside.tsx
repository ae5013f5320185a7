import { useMutation } from "@tanstack/react-query";
import { scaleLinear } from "@visx/scale";
import { api, type Replay } from "../api";
import { milliseconds } from "../format";
import { Button, ErrorNote, Row } from "../parts/sheet";
import { useSound } from "../parts/sound";
import { colour } from "../theme";

type Outcome = Replay["before"];
const WIDTH = 560;
const HEIGHT = 26;
const SHADES: Record<string, string> = {
  fetch: colour.rule,
  decode: colour.faded,
  transcribe: colour.kelp,
  route: colour.ink,
  answer: colour.brass,
  speak: colour.buoy,
  encode: colour.faded,
  deliver: colour.rule,
};

const whole = (outcome: Outcome) =>
  (outcome.stages ?? []).reduce((sum, each) => sum + each.milliseconds, 0);

/** The stages of a turn then and now, on one axis of time. */
export function StageTimes({ found }: { found: Replay }) {
  const most = Math.max(1, whole(found.before), whole(found.after));
  const x = scaleLinear({ domain: [0, most], range: [0, WIDTH] });
  return (
    <figure style={{ margin: "0.6rem 0" }}>
      {(["before", "after"] as const).map((name) => (
        <div key={name}>
          <svg
            width={WIDTH}
            height={HEIGHT}
            role="img"
            aria-label={`${name === "before" ? "Then" : "Now"}: ${(found[name].stages ?? [])
              .map((each) => `${each.stage} ${milliseconds(each.milliseconds / 1000)}`)
              .join(", ")}`}
          >
            {(found[name].stages ?? []).map((each, place, all) => {
              const before = all.slice(0, place).reduce((sum, one) => sum + one.milliseconds, 0);
              return (
                <rect
                  key={`${each.stage}${place}`}
                  x={x(before)}
                  y={4}
                  width={Math.max(1, x(each.milliseconds))}
                  height={HEIGHT - 10}
                  fill={SHADES[each.stage] ?? colour.faded}
                >
                  <title>{`${each.stage}, ${milliseconds(each.milliseconds / 1000)}`}</title>
                </rect>
              );
            })}
          </svg>
          <small>
            {" "}
            {name === "before" ? "then" : "now"}: {milliseconds(whole(found[name]) / 1000)},{" "}
            {(found[name].stages ?? [])
              .map((each) => `${each.stage} ${milliseconds(each.milliseconds / 1000)}`)
              .join(", ")}
          </small>
        </div>
      ))}
      <figcaption>
        Each stage to one scale; now, nothing is fetched, spoken or sent unless you listen to it.
      </figcaption>
    </figure>
  );
}

/** What is heard, then and now: the sound that went out, and the words as they would be spoken. */
export function BothSounds({ found }: { found: Replay }) {
  const speak = useMutation({
    mutationFn: () =>
      api.render({
        text: found.after.spoken ?? "",
        voice: found.after.voice ?? "",
        deliver_as: "base64",
        format: "ogg",
        prosody: { rate: 1, pitch: 0 },
      }),
  });
  return (
    <Row>
      {found.before.clip && (
        <label>
          then{" "}
          <audio
            controls
            aria-label="As it was spoken"
            src={`/api/clips/${encodeURIComponent(found.before.clip)}/sound`}
          />
        </label>
      )}
      {found.after.spoken && !speak.data && (
        <Button onPress={() => speak.mutate()} isDisabled={speak.isPending}>
          Hear it as it would be
        </Button>
      )}
      {speak.error && <ErrorNote role="alert">{speak.error.message}</ErrorNote>}
      {speak.data && <Now base64={speak.data.base64} />}
    </Row>
  );
}

function Now({ base64 }: { base64: string }) {
  const { address } = useSound(base64);
  return (
    <label>
      now <audio controls autoPlay aria-label="As it would be spoken" src={address || undefined} />
    </label>
  );
}
