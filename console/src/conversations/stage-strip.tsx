import { ParentSize } from "@visx/responsive";
import { scaleLinear } from "@visx/scale";
import { Bar } from "@visx/shape";
import styled from "styled-components";
import type { Stage } from "../api";
import { milliseconds } from "../format";
import { colour } from "../theme";

const LANE = 26;
const LABELS = 78;

const Caption = styled.p`
  margin: 0 0 0.3rem;
  font-size: 0.87rem;
  color: ${colour.faded};
`;

/** The stages on one time axis, from the message's arrival: lengths to scale, waits as gaps. */
export function StageStrip({ stages, from }: { stages: Stage[]; from: string }) {
  if (!stages.length) return null;
  const start = Date.parse(from) / 1000;
  const spans = stages.map((stage) => {
    const begin = Date.parse(stage.started_at) / 1000 - start;
    return { stage, begin, end: begin + stage.seconds };
  });
  const total = Math.max(...spans.map((span) => span.end), 0.001);
  return (
    <figure style={{ margin: 0 }}>
      <Caption as="figcaption">
        {milliseconds(total)} from arrival to the end of delivery; thin lines are waits
      </Caption>
      <ParentSize debounceTime={20} style={{ height: LANE * spans.length + 20 }}>
        {({ width }) => {
          const x = scaleLinear({
            domain: [0, total],
            range: [LABELS, Math.max(LABELS + 40, width - 50)],
          });
          return (
            <svg
              width={width}
              height={LANE * spans.length + 20}
              role="img"
              aria-label="Lengths of the stages"
            >
              {x.ticks(width > 420 ? 5 : 3).map((tick) => (
                <g key={tick} stroke={colour.rule} fill={colour.faded}>
                  <line x1={x(tick)} x2={x(tick)} y1={0} y2={LANE * spans.length} />
                  <text
                    x={x(tick)}
                    y={LANE * spans.length + 15}
                    fontSize={11}
                    textAnchor="middle"
                    stroke="none"
                  >
                    {milliseconds(tick)}
                  </text>
                </g>
              ))}
              {spans.map(({ begin }, lane) => {
                // What lies between the end of the stage before and this one's beginning is a wait.
                const before = lane ? spans[lane - 1]!.end : 0;
                return begin > before ? (
                  <Bar
                    key={lane}
                    x={x(before)}
                    y={lane * LANE + 11}
                    width={x(begin) - x(before)}
                    height={4}
                    fill={colour.rule}
                  />
                ) : null;
              })}
              {spans.map(({ stage, begin, end }, lane) => (
                <g key={`${stage.name}-${stage.part}-${stage.attempt}`}>
                  <text x={0} y={lane * LANE + 17} fontSize={13} fill={colour.ink}>
                    {stage.name}
                  </text>
                  <Bar
                    x={x(begin)}
                    y={lane * LANE + 5}
                    width={Math.max(2, x(end) - x(begin))}
                    height={LANE - 10}
                    fill={stage.outcome === "failed" ? colour.buoy : colour.kelp}
                  />
                  <text
                    x={Math.max(x(end), x(begin) + 2) + 5}
                    y={lane * LANE + 17}
                    fontSize={11}
                    fill={colour.faded}
                  >
                    {milliseconds(stage.seconds)}
                  </text>
                </g>
              ))}
            </svg>
          );
        }}
      </ParentSize>
    </figure>
  );
}
