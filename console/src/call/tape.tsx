import { ParentSize } from "@visx/responsive";
import { scaleLinear } from "@visx/scale";
import { Bar, Line } from "@visx/shape";
import styled from "styled-components";
import type { Happening, TwoWaveforms } from "../api";
import { columns } from "../parts/waveform";
import { colour } from "../theme";

const HEIGHT = 208;
const LANE = 58;
const TOP = { marks: 34, theirs: 40, ours: 112, axis: 182 };
const MARKED: Record<string, string> = {
  said: "spoke",
  key: "key",
  "barge-in": "barge-in",
  greeted: "greeting",
  opened: "opening",
  changed: "hold",
  transferred: "on",
  answered_by: "who",
};

const Box = styled.figure`
  margin: 0 0 0.6rem;
  height: ${HEIGHT}px;
  background: ${colour.sea};
  text {
    font-size: 11.5px;
    fill: ${colour.faded};
  }
  text[data-mark] {
    fill: ${colour.ink};
  }
  svg {
    display: block;
    cursor: pointer;
  }
`;

/** Two waveforms on one axis: the other side above, us below; marks where something happened. */
export function Tape(props: {
  waveforms: TwoWaveforms;
  timeline: Happening[];
  at: number;
  move: (to: number) => void;
}) {
  const { theirs, ours, per_second } = props.waveforms;
  const seconds = Math.max(theirs.length, ours.length, 1) / per_second;
  return (
    <Box role="img" aria-label={`Both sides of the call, ${seconds.toFixed(0)} seconds`}>
      <ParentSize debounceTime={50}>
        {({ width }) => (width > 0 ? <Drawn {...props} width={width} seconds={seconds} /> : null)}
      </ParentSize>
    </Box>
  );
}

function Drawn(props: {
  waveforms: TwoWaveforms;
  timeline: Happening[];
  at: number;
  move: (to: number) => void;
  width: number;
  seconds: number;
}) {
  const left = 74;
  const x = scaleLinear({ domain: [0, props.seconds], range: [left, props.width - 10] });
  const every =
    [1, 2, 5, 10, 15, 30, 60, 120, 300, 600].find((step) => props.seconds / step <= 12) ?? 1_200;
  const ticks = Array.from(
    { length: Math.floor(props.seconds / every) + 1 },
    (_, count) => count * every,
  );
  const happened = props.timeline.filter((each) => each.at !== null && each.kind in MARKED);
  let edge = -1_000;
  const marks = happened.map((each) => {
    const place = x(Math.min(each.at!, props.seconds));
    const label = each.kind === "key" ? `key ${each.about.keys}` : MARKED[each.kind]!;
    // A label that would lie over the one before is left out; the table has it.
    const shown = place > edge;
    if (shown) edge = place + 7 * label.length + 6;
    return { place, label: shown ? label : "", kind: each.kind };
  });
  return (
    <svg
      width={props.width}
      height={HEIGHT}
      onClick={(event) => {
        const place = event.clientX - event.currentTarget.getBoundingClientRect().left;
        props.move(Math.min(props.seconds, Math.max(0, x.invert(place))));
      }}
    >
      <Lane
        x={x}
        top={TOP.theirs}
        heights={props.waveforms.theirs}
        perSecond={props.waveforms.per_second}
        fill={colour.ink}
      />
      <Lane
        x={x}
        top={TOP.ours}
        heights={props.waveforms.ours}
        perSecond={props.waveforms.per_second}
        fill={colour.kelp}
      />
      <text x={8} y={TOP.theirs + LANE / 2 + 4}>
        other side
      </text>
      <text x={8} y={TOP.ours + LANE / 2 + 4}>
        us
      </text>
      {ticks.map((tick) => (
        <g key={tick}>
          <Line
            from={{ x: x(tick), y: TOP.axis }}
            to={{ x: x(tick), y: TOP.axis + 5 }}
            stroke={colour.faded}
          />
          <text x={x(tick)} y={TOP.axis + 19} textAnchor="middle">
            {tick} s
          </text>
        </g>
      ))}
      {marks.map((mark, place) => (
        <g key={place}>
          <Line
            from={{ x: mark.place, y: TOP.marks - 8 }}
            to={{ x: mark.place, y: TOP.axis }}
            stroke={mark.kind === "barge-in" ? colour.buoy : colour.brass}
            strokeDasharray={mark.kind === "barge-in" ? "3 3" : undefined}
          />
          <text
            data-mark
            x={mark.place}
            y={TOP.marks - 14}
            textAnchor={mark.place > props.width - 60 ? "end" : "start"}
          >
            {mark.label}
          </text>
        </g>
      ))}
      <Line
        from={{ x: x(props.at), y: TOP.marks }}
        to={{ x: x(props.at), y: TOP.axis }}
        stroke={colour.buoy}
        strokeWidth={2}
      />
    </svg>
  );
}

function Lane(props: {
  x: (seconds: number) => number;
  top: number;
  heights: number[];
  perSecond: number;
  fill: string;
}) {
  const [from, to] = [props.x(0), props.x(props.heights.length / props.perSecond)];
  const count = Math.max(1, Math.min(props.heights.length, Math.floor((to - from) / 3)));
  const step = (to - from) / count;
  return columns(props.heights, count).map((height, column) => {
    const tall = Math.max(1.5, Math.min(1, height * 1.4) * LANE);
    return (
      <Bar
        key={column}
        x={from + column * step}
        y={props.top + (LANE - tall) / 2}
        width={Math.max(1, step - 1)}
        height={tall}
        fill={props.fill}
      />
    );
  });
}
