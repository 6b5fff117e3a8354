/** Tests made from a contract alone: run against what is live, shown by operation, element and rule. */
import { Play, Square } from "lucide-react";
import { useMemo, useState } from "react";
import { useAddress } from "../address";
import { ask, type Overview, type TestResult, type TestRun } from "../api";
import { useAct } from "../act";
import { took } from "../formats";
import { ALL, useLens } from "../lens";
import { useLoad } from "../load";
import { Problems, Select } from "../parts/controls";
import { mayAtLeast, useSession } from "../session";
import { ResultDetail } from "../suites/case";
import { countsOf, useRun } from "../suites/following";
import { Counts, Outcome } from "../suites/outcome";
import { TestTabs } from "../suites/tabs";
import { rich, t } from "../text";

const MORE = ["0", "10", "50", "200"];

export default function ContractTestsPage() {
  const may = mayAtLeast(useSession(), "operator");
  const [view] = useLens();
  const [search, setSearch] = useAddress();
  const overview = useLoad<Overview>("/overview", 30);
  const act = useAct();
  const [random, setRandom] = useState("0");
  const services = (overview.data?.services ?? []).filter((one) => one.deployments.some((at) => at.answers));
  const service = services.find((one) => one.name === search.get("service")) ?? services[0];
  const places = service?.deployments.filter((one) => one.answers).map((one) => one.environment) ?? [];
  const wished = search.get("against") ?? (view === ALL ? "" : view);
  const environment = places.includes(wished) ? wished : (places[0] ?? "");
  const suite = `${service?.name ?? ""}-generated`;
  const past = useLoad<TestRun[]>(
    service && environment
      ? `/test-runs?environment=${encodeURIComponent(environment)}&suite=${encodeURIComponent(suite)}&limit=1`
      : null,
  );
  const number = Number(search.get("run")) || past.data?.[0]?.number;
  const { run, results, problems } = useRun(number);
  const chosen = results.find((one) => String(one.number) === search.get("result"));
  const running = run?.state === "running";
  const start = () =>
    act.run(async () => {
      const made = await ask<TestRun>("POST", "/test-runs", {
        environment,
        services: [service?.name],
        generated: true,
        random: Number(random),
      });
      setSearch({ run: String(made.number), result: null });
    });
  if (!service) return <TestTabs at="/tests/contract" />;
  return (
    <>
      <TestTabs at="/tests/contract" />
      <div className={`grid min-h-0 grow ${chosen ? "grid-cols-[minmax(0,1fr)_400px]" : ""}`}>
        <section aria-label={t("Tests of the contract")} className="flex min-h-0 min-w-0 flex-col">
          <div className="flex flex-wrap items-end gap-3 px-5 pt-3 pb-3">
            <div className="w-52">
              <span className="lbl">{t("Service")}</span>
              <Select
                label={t("Service")}
                value={service.name}
                onChange={(next) => setSearch({ service: next, run: null, result: null })}
                options={services.map((one) => ({ value: one.name, word: one.name }))}
              />
            </div>
            <div className="w-36">
              <span className="lbl">{t("Against")}</span>
              <Select
                label={t("Environment")}
                value={environment}
                onChange={(next) => setSearch({ against: next, run: null, result: null })}
                options={places.map((one) => ({ value: one, word: one }))}
              />
            </div>
            <div className="w-36">
              <span className="lbl">{t("Drawn at random")}</span>
              <Select
                label={t("Drawn at random, for each operation")}
                value={random}
                onChange={setRandom}
                options={MORE.map((one) => ({ value: one, word: one === "0" ? t("none") : one }))}
              />
            </div>
            {running ? (
              <button
                type="button"
                className="btn ml-auto"
                aria-disabled={!may}
                onClick={() => {
                  if (may) void ask("DELETE", `/test-runs/${number}`);
                }}
              >
                <Square size={15} strokeWidth={1.75} /> {t("Stop")}
              </button>
            ) : (
              <button
                type="button"
                className="btn btn-main ml-auto"
                aria-disabled={!may || act.busy}
                title={may ? undefined : t("Running needs the role operator")}
                onClick={() => {
                  if (may && !act.busy) void start();
                }}
              >
                <Play size={15} strokeWidth={1.75} />
                {rich("Test it in {0}", environment)}
              </button>
            )}
          </div>
          {[...act.problems, ...problems].length > 0 && (
            <div className="px-5 pb-2">
              <Problems problems={[...act.problems, ...problems]} />
            </div>
          )}
          {run ? (
            <p className="flex items-center gap-4 border-y border-line bg-inset px-5 py-1.5" role="status">
              <b className="font-semibold">
                <Outcome of={run.state === "ended" ? (run.failed ? "failed" : "passed") : run.state} />
              </b>
              <Counts run={countsOf(results)} />
              <span className="text-ink2">
                {running
                  ? t("{0} of {1} in {2}", results.length, run.total, run.environment)
                  : t(
                      "run {0} in {1} by {2}, {3}",
                      run.number,
                      run.environment,
                      run.author,
                      took(((run.ended_at ?? run.begun_at) - run.begun_at) * 1e6),
                    )}
              </span>
            </p>
          ) : (
            <p className="max-w-[72ch] border-t border-line px-5 py-3 text-ink2">
              {t("Right requests of every form and wrong ones of every kind are made from the contract alone.")}{" "}
              {t("Each must be answered in the way that the contract promises. What writes is rolled back.")}
            </p>
          )}
          <div className="min-h-0 grow overflow-auto">
            <Matrix results={results} onSelect={(one) => setSearch({ result: String(one) })} />
          </div>
        </section>
        {chosen && (
          <aside
            className="flex min-h-0 flex-col overflow-auto border-l border-line bg-inset px-4 py-3"
            aria-label={t("The selected test")}
          >
            <h2 className="text-[15px] font-semibold break-all">{chosen.operation}</h2>
            <p className="text-ink2">
              {chosen.element || t("the whole request")}: {chosen.rule}
            </p>
            <ResultDetail shown={chosen} run={number} environment={run?.environment ?? environment} />
          </aside>
        )}
      </div>
    </>
  );
}

interface Row {
  operation: string;
  element: string;
  tests: TestResult[];
}

/** A line for each element of each operation; a rule that is not kept is a button that shows the test. */
function Matrix({ results, onSelect }: { results: TestResult[]; onSelect: (number: number) => void }) {
  const rows = useMemo(() => {
    const found = new Map<string, Row>();
    for (const one of results.toSorted((a, b) => a.case.localeCompare(b.case))) {
      const key = `${one.operation} ${one.element}`;
      const row = found.get(key) ?? { operation: one.operation, element: one.element, tests: [] };
      row.tests.push(one);
      found.set(key, row);
    }
    return [...found.values()];
  }, [results]);
  if (!rows.length) return null;
  return (
    <table className="tbl">
      <thead>
        <tr>
          <th scope="col">{t("Operation")}</th>
          <th scope="col">{t("Element")}</th>
          <th scope="col" className="n">
            {t("Passed")}
          </th>
          <th scope="col" className="n">
            {t("Failed")}
          </th>
          <th scope="col">{t("Rules")}</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row, index) => {
          const failed = row.tests.filter((one) => one.outcome === "failed");
          const kept = [...new Set(row.tests.filter((one) => one.outcome === "passed").map((one) => one.rule))];
          return (
            <tr key={`${row.operation} ${row.element}`} className="align-top">
              <th scope="row" className="font-medium">
                {rows[index - 1]?.operation === row.operation ? "" : row.operation}
              </th>
              <td className="font-mono text-[12.5px]">{row.element || t("the whole request")}</td>
              <td className="n">{row.tests.length - failed.length}</td>
              <td className={`n ${failed.length ? "font-semibold text-bad" : "text-ink3"}`}>{failed.length || "–"}</td>
              <td className="text-ink2">
                {failed.map((one) => (
                  <button
                    key={one.number}
                    type="button"
                    className="act mr-2 text-bad"
                    onClick={() => onSelect(one.number)}
                  >
                    {one.rule}
                  </button>
                ))}
                {kept.join(", ")}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
