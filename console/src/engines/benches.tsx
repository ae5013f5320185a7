import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { scaleLinear } from "@visx/scale";
import { api, type Bench, type BenchAnswer, type Standing } from "../api";
import { colour } from "../theme";
import { Button, ErrorNote, Mark, Row, Table } from "../parts/sheet";

const WIDTH = 180;
const HEIGHT = 18;

const Words = styled.p`
  max-width: 70ch;
  line-height: 1.9;
  margin-top: 16px;
`;

const Wrong = styled.span<{ $step: BenchAnswer["steps"][number]["step"] }>`
  border-bottom: 2px ${(props) => (props.$step === "missing" ? "dashed" : "solid")} ${colour.buoy};
  s {
    color: ${colour.faded};
  }
`;

/** Benches: engines on the same recordings or texts, ranked, and their words side by side. */
export function Benches() {
  const benches = useQuery({ queryKey: ["benches"], queryFn: api.benches });
  const [chosen, setChosen] = useState("");
  const shown = benches.data?.find((each) => each.name === chosen) ?? benches.data?.[0];
  return (
    <>
      <h3>Benches</h3>
      <p>
        Engines on the same recordings or texts, the one with the fewest errors first. Run one with{" "}
        <code>fond-echo bench run NAME FOLDER --engine …</code>
      </p>
      {benches.error && <ErrorNote role="alert">{benches.error.message}</ErrorNote>}
      {(benches.data?.length ?? 0) > 1 && (
        <Row>
          {benches.data?.map((each) => (
            <Button key={each.name} onPress={() => setChosen(each.name)}>
              {each.name}
            </Button>
          ))}
        </Row>
      )}
      {shown && <Ranking key={shown.name} bench={shown} />}
    </>
  );
}

function Ranking({ bench }: { bench: Bench }) {
  const speaks = bench.does === "speak";
  const most = Math.max(0.01, ...bench.ranked.map((each) => each.high));
  return (
    <>
      <h4>{bench.name}</h4>
      <Table>
        <thead>
          <tr>
            <th scope="col">Engine</th>
            <th scope="col">{speaks ? "Not heard back" : "Words wrong"}</th>
            <th scope="col">With its 95 % interval</th>
            <th scope="col">Failed</th>
            <th scope="col">Wait, median and 95th</th>
            {speaks && <th scope="col">First sound</th>}
            {speaks && <th scope="col">Level</th>}
            <th scope="col">Cost each</th>
          </tr>
        </thead>
        <tbody>
          {bench.ranked.map((each) => (
            <tr key={each.engine}>
              <td>{each.engine}</td>
              <td>{share(each.rate)}</td>
              <td>
                <Interval standing={each} most={most} />
              </td>
              <td>
                <Mark $kind={each.failed ? "bad" : "plain"}>
                  {each.failed} of {each.files}
                </Mark>
              </td>
              <td>
                {Math.round(1000 * each.wait)} and {Math.round(1000 * each.long_wait)} ms
              </td>
              {speaks && <td>{Math.round(1000 * each.first_seconds)} ms</td>}
              {speaks && <td>{each.level.toFixed(1)} LUFS</td>}
              <td>{each.cost_each.toFixed(5)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      <Differences bench={bench} />
    </>
  );
}

function Interval({ standing, most }: { standing: Standing; most: number }) {
  const x = scaleLinear({ domain: [0, most], range: [4, WIDTH - 4] });
  const said = `${share(standing.low)} to ${share(standing.high)}`;
  return (
    <svg width={WIDTH} height={HEIGHT} role="img" aria-label={said}>
      <title>{said}</title>
      <line x1={x(0)} x2={x(most)} y1={HEIGHT / 2} y2={HEIGHT / 2} stroke={colour.rule} />
      <line
        x1={x(standing.low)}
        x2={x(standing.high)}
        y1={HEIGHT / 2}
        y2={HEIGHT / 2}
        stroke={colour.brass}
        strokeWidth={4}
      />
      <circle cx={x(standing.rate)} cy={HEIGHT / 2} r={5} fill={colour.ink} />
    </svg>
  );
}

function Differences({ bench }: { bench: Bench }) {
  const detail = useQuery({
    queryKey: ["benches", bench.name],
    queryFn: () => api.bench(bench.name),
  });
  const [file, setFile] = useState("");
  const answers = detail.data?.answers ?? [];
  const worst = [...new Set(answers.map((each) => each.file))]
    .map((name) => ({
      name,
      errors: answers
        .filter((each) => each.file === name)
        .reduce((sum, one) => sum + one.errors, 0),
    }))
    .filter((each) => each.errors)
    .sort((one, other) => other.errors - one.errors)
    .slice(0, 8);
  const shown = file || worst[0]?.name;
  if (!shown) return null;
  return (
    <>
      <h5>Word by word</h5>
      <Row>
        {worst.map((each) => (
          <Button key={each.name} onPress={() => setFile(each.name)}>
            {each.name} ({each.errors})
          </Button>
        ))}
      </Row>
      {answers
        .filter((each) => each.file === shown)
        .map((each) => (
          <Words key={each.engine}>
            <strong>{each.engine}</strong>, {each.errors} of {each.word_count} wrong in {shown}:{" "}
            {each.why || each.steps.map((step, place) => <Step key={place} {...step} />)}
          </Words>
        ))}
    </>
  );
}

function Step({ step, said, heard }: BenchAnswer["steps"][number]) {
  if (step === "same") return <>{said} </>;
  return (
    <>
      <Wrong $step={step}>
        {said && <s>{said}</s>} {heard}
      </Wrong>{" "}
    </>
  );
}

function share(rate: number): string {
  return `${(100 * rate).toFixed(1)} %`;
}
