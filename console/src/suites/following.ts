/** A test run while it runs: its results are added as they come. */
import { useEffect, useState } from "react";
import { ask, ProblemError, type Problem, type TestResult, type TestRun, type TestRunDetail } from "../api";

const EVERY = 400; // milliseconds between two looks at a run that is under way

export interface Followed {
  run: TestRunDetail | undefined;
  results: TestResult[];
  problems: Problem[];
}

export function useRun(number: number | undefined): Followed {
  const [state, setState] = useState<{ of: number | undefined } & Followed>({
    of: undefined,
    run: undefined,
    results: [],
    problems: [],
  });
  useEffect(() => {
    if (number === undefined) return;
    let over = false;
    let timer: ReturnType<typeof setTimeout> | undefined;
    let results: TestResult[] = [];
    const look = async () => {
      try {
        const found = await ask<TestRunDetail>("GET", `/test-runs/${number}?after=${results.length}`);
        if (over) return;
        results = [...results, ...found.results];
        setState({ of: number, run: found, results, problems: [] });
        if (found.state === "running") timer = setTimeout(() => void look(), EVERY);
      } catch (error) {
        if (!over && error instanceof ProblemError)
          setState({ of: number, run: undefined, results, problems: error.problems });
      }
    };
    void look();
    return () => {
      over = true;
      clearTimeout(timer);
    };
  }, [number]);
  return state.of === number ? state : { run: undefined, results: [], problems: [] };
}

/** The outcome of a case: of several rows the worst. */
export function outcomeOf(results: TestResult[], name: string): string {
  const mine = results.filter((one) => one.part === "case" && one.case === name).map((one) => one.outcome);
  return ["failed", "left out", "passed"].find((one) => mine.includes(one as TestResult["outcome"])) ?? "";
}

/** The counts of some results: a set-up or a clean-up that failed counts as a failure. */
export function countsOf(results: TestResult[]): Pick<TestRun, "passed" | "failed" | "left_out" | "warned"> {
  const cases = results.filter((one) => one.part === "case");
  return {
    passed: cases.filter((one) => one.outcome === "passed").length,
    failed: results.filter((one) => one.outcome === "failed").length,
    left_out: cases.filter((one) => one.outcome === "left out").length,
    warned: results.filter((one) => one.warnings.length > 0).length,
  };
}
