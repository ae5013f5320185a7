import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Files, type Revision } from "../api";
import { timeOf } from "../format";
import { Button, ErrorNote, Mark } from "../parts/sheet";

function LastRun({ of: { draft, live, cases } }: { of: Revision }) {
  if (!cases) return null;
  const all = cases.passed + cases.failed.length;
  return (
    <>
      {[draft && "draft", live && "live"].filter(Boolean).join(" and ")}:{" "}
      {cases.failed.length ? (
        <Mark $kind="bad">{`${cases.failed.length} of ${all} failed`}</Mark>
      ) : (
        <Mark $kind="good">{all === 1 ? "the case passed" : `all ${all} passed`}</Mark>
      )}
      , {timeOf(cases.at)}
      {cases.failed.length > 0 && `: ${cases.failed.join(", ")}`}
    </>
  );
}

/** The cases of the files on this page, run; and what people said that no route took. */
export function Proof({ name, files }: { name: string; files: Files }) {
  const cache = useQueryClient();
  const run = useMutation({
    mutationFn: () => api.runCases(name, files),
    onSuccess: () => cache.invalidateQueries({ queryKey: ["revisions", name] }),
  });
  const kept = useQuery({ queryKey: ["revisions", name], queryFn: () => api.revisions(name) });
  const gaps = useQuery({ queryKey: ["gaps", name], queryFn: () => api.gaps(name) });
  const count = Object.keys(files).filter((file) => /^cases\/.*\.yaml$/.test(file)).length;
  return (
    <>
      <section aria-label="Cases">
        <h3>Cases</h3>
        {count === 0 ? (
          <p>None yet. A turn&apos;s own page keeps it as one.</p>
        ) : (
          <Button onPress={() => run.mutate()} isDisabled={run.isPending}>
            Run {count === 1 ? "the case" : `all ${count}`}
          </Button>
        )}
        {kept.data
          ?.filter((each) => each.cases && (each.draft || each.live))
          .map((each) => (
            <p key={each.digest}>
              <LastRun of={each} />
            </p>
          ))}
        {run.error && <ErrorNote role="alert">{run.error.message}</ErrorNote>}
        <ul role="status" style={{ listStyle: "none", padding: 0 }}>
          {run.data?.cases.map((each) => (
            <li key={each.case} style={{ padding: "0.2rem 0" }}>
              <Mark $kind={each.passed ? "good" : "bad"}>{each.passed ? "passed" : "failed"}</Mark>{" "}
              {each.case}
              {each.failures.map((why) => (
                <div key={why}>{why}</div>
              ))}
            </li>
          ))}
        </ul>
      </section>
      {!!gaps.data?.length && (
        <section aria-label="Gaps">
          <h3>No route for these</h3>
          <ul style={{ listStyle: "none", padding: 0 }}>
            {gaps.data.slice(0, 8).map((each) => (
              <li key={each.turns[0]} style={{ padding: "0.25rem 0" }}>
                {each.count} ×{" "}
                <Link to={`/turns/${each.heard || each.turns[0]}`}>“{each.example}”</Link>
                {each.nearest && (
                  <div>
                    nearest: {each.nearest}, {Math.round(100 * each.confidence)} % likely
                  </div>
                )}
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  );
}
