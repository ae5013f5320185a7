import type { EngineAsked } from "../api";
import { Code, Mark, Table } from "./sheet";

const KINDS: Record<EngineAsked["outcome"], "good" | "bad" | "plain"> = {
  done: "good",
  failed: "bad",
  paused: "plain",
  "over-budget": "plain",
};

/** Engines in the order in which they were asked: what came of each, and each exchange. */
export function Asked({ asked }: { asked: EngineAsked[] }) {
  return (
    <>
      <Table aria-label="Engines asked">
        <tbody>
          {asked.map((each, place) => (
            <tr key={place}>
              <td>{each.engine}</td>
              <td>
                <Mark $kind={KINDS[each.outcome]}>{each.outcome}</Mark>
              </td>
              <td>{Math.round(1000 * each.seconds)} ms</td>
              <td>{each.cost ? each.cost.toPrecision(3) : ""}</td>
              <td>{each.why}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      <details>
        <summary>What was sent and answered</summary>
        <Code tabIndex={0}>
          {JSON.stringify(
            asked.map((each) => ({ engine: each.engine, exchanges: each.exchanges })),
            null,
            2,
          )}
        </Code>
      </details>
    </>
  );
}
