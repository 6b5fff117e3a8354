/** What became of cases and runs, as marks with words. */
import type { TestRun } from "../api";
import { Mark, STATE_MARK } from "../parts/marks";
import { t } from "../text";

const WORDS: Record<string, string> = {
  passed: t("passed"),
  failed: t("failed"),
  "left out": t("left out"),
  running: t("running"),
  ended: t("ended"),
  stopped: t("stopped"),
  "broken off": t("broken off"),
};

export function Outcome({ of }: { of: string }) {
  if (!of) return <span className="text-ink3">{t("not run")}</span>;
  return (
    <span className="flex items-center gap-2 whitespace-nowrap">
      <Mark name={STATE_MARK[of] ?? "none"} />
      {WORDS[of] ?? of}
    </span>
  );
}

/** The counts of a run: a mark with a number each, those that are none left out. */
export function Counts({ run }: { run: Pick<TestRun, "passed" | "failed" | "left_out" | "warned"> }) {
  const parts = [
    { mark: "serving" as const, count: run.passed, word: t("passed") },
    { mark: "fault" as const, count: run.failed, word: t("failed") },
    { mark: "warm" as const, count: run.left_out, word: t("left out") },
    { mark: "risk" as const, count: run.warned, word: t("thin") },
  ].filter((one) => one.count);
  return (
    <span className="inline-flex items-center gap-2.5">
      {parts.map((one) => (
        <span key={one.word} className="inline-flex items-center gap-1" title={`${one.count} ${one.word}`}>
          <Mark name={one.mark} label={one.word} />
          {one.count}
        </span>
      ))}
      {!parts.length && <span className="text-ink3">{t("nothing yet")}</span>}
    </span>
  );
}
