/** Test suites: the cases of each, a run while it runs, what changed since the one before, and its text. */
import { FlaskConical, Play, Square } from "lucide-react";
import { useState } from "react";
import { useAddress } from "../address";
import { ask, type Overview, type SuiteDetail, type SuiteRow, type TestRun } from "../api";
import { useAct } from "../act";
import { took, when } from "../formats";
import { steps, useKeys } from "../hotkeys";
import { ALL, useLens } from "../lens";
import { useLoad } from "../load";
import { NotLoaded, Problems, Segments, Select } from "../parts/controls";
import { Mark } from "../parts/marks";
import { mayAtLeast, useSession } from "../session";
import { CaseDetail } from "../suites/case";
import { countsOf, outcomeOf, useRun, type Followed } from "../suites/following";
import { Counts, Outcome } from "../suites/outcome";
import { TestTabs } from "../suites/tabs";
import { SuiteText } from "../suites/source";
import { rich, t } from "../text";

export default function SuitesPage() {
  const [search, setSearch] = useAddress();
  const list = useLoad<SuiteRow[]>("/suites", 5);
  const overview = useLoad<Overview>("/overview", 30);
  const name = search.get("suite") ?? list.data?.[0]?.name ?? "";
  const detail = useLoad<SuiteDetail>(name ? `/suites/${encodeURIComponent(name)}` : null, 5);
  if (list.error && !list.data) return <NotLoaded error={list.error} />;
  if (!list.data) return null;
  return (
    <>
      <TestTabs at="/tests/suites" />
      <div className="grid min-h-0 grow grid-cols-[232px_minmax(0,1fr)]">
        <nav aria-label={t("Test suites")} className="min-h-0 overflow-auto border-r border-line bg-inset">
          {list.data.map((one) => (
            <button
              key={one.name}
              type="button"
              aria-pressed={one.name === name}
              onClick={() => setSearch({ suite: one.name, run: null, case: null })}
              className={`block w-full border-b border-line px-4 py-1.5 text-left ${one.name === name ? "chosen" : ""}`}
            >
              <span className="flex items-center gap-2">
                <FlaskConical size={15} strokeWidth={1.75} className="shrink-0 text-ink3" />
                <b className="truncate font-semibold">{one.name}</b>
                {one.problems > 0 && <Mark name="fault" label={t("does not fit its service")} className="ml-auto" />}
              </span>
              <span className="block truncate text-xs text-ink2">{one.service}</span>
              <span className="flex items-center gap-2 text-xs">
                {one.runs[0] ? (
                  <>
                    <Counts run={one.runs[0]} />
                    <span className="truncate text-ink2">{one.runs[0].environment}</span>
                  </>
                ) : (
                  <span className="text-ink3">{t("never run")}</span>
                )}
              </span>
            </button>
          ))}
          {!list.data.length && (
            <p className="px-4 py-2 text-ink2">{t("None yet. Send a request on the bench, and keep it as a case.")}</p>
          )}
        </nav>
        {detail.data && overview.data && (
          <SuitePane
            key={detail.data.name}
            suite={detail.data}
            overview={overview.data}
            onChanged={() => {
              detail.reload();
              list.reload();
            }}
          />
        )}
      </div>
    </>
  );
}

function SuitePane({ suite, overview, onChanged }: { suite: SuiteDetail; overview: Overview; onChanged: () => void }) {
  const may = mayAtLeast(useSession(), "operator");
  const [view] = useLens();
  const [search, setSearch] = useAddress();
  const act = useAct();
  const [side, setSide] = useState<"cases" | "text">("cases");
  const places =
    overview.services
      .find((one) => one.name === suite.service)
      ?.deployments.filter((one) => one.release !== undefined)
      .map((one) => one.environment) ?? [];
  const [wished, setWished] = useState("");
  const wanted = wished || (view === ALL ? "" : view);
  const environment = places.includes(wanted) ? wanted : (places[0] ?? "");
  const newest = suite.history.find((one) => one.environment === environment);
  const number = Number(search.get("run")) || newest?.number;
  const followed = useRun(number);
  const selected = suite.parts.find((one) => one.name === search.get("case"));
  const choose = (one: string) => setSearch({ case: one });
  useKeys({ ...steps(suite.parts, selected, (one) => choose(one.name)), Escape: () => choose("") });
  const start = () =>
    act.run(async () => {
      const made = await ask<TestRun>("POST", "/test-runs", { environment, suites: [suite.name] });
      setSearch({ run: String(made.number) });
      onChanged();
    });
  const running = followed.run?.state === "running";
  return (
    <div
      className={`grid min-h-0 ${selected && side === "cases" ? "grid-cols-[minmax(0,1fr)_400px]" : "grid-cols-[minmax(0,1fr)]"}`}
    >
      <section aria-label={t("The suite")} className="flex min-h-0 min-w-0 flex-col">
        <div className="flex flex-wrap items-center gap-3 px-5 pt-3">
          <h1 className="text-[17px] font-semibold">{suite.name}</h1>
          <Segments
            label={t("What is shown")}
            value={side}
            onChange={setSide}
            options={[
              { value: "cases", word: t("Cases") },
              { value: "text", word: t("Text") },
            ]}
          />
          <span className="ml-auto flex items-center gap-2">
            {places.length > 0 ? (
              <span className="w-36">
                <Select
                  label={t("Environment")}
                  value={environment}
                  onChange={(next) => {
                    setWished(next);
                    setSearch({ run: null });
                  }}
                  options={places.map((one) => ({ value: one, word: one }))}
                />
              </span>
            ) : (
              <span className="text-ink2">{t("{0} is not live anywhere.", suite.service)}</span>
            )}
            {running ? (
              <button
                type="button"
                className="btn"
                aria-disabled={!may}
                onClick={() => {
                  if (may) void ask("DELETE", `/test-runs/${number}`).then(onChanged);
                }}
              >
                <Square size={15} strokeWidth={1.75} /> {t("Stop")}
              </button>
            ) : (
              <button
                type="button"
                className="btn btn-main"
                aria-disabled={!may || !environment || act.busy}
                title={may ? undefined : t("Running needs the role operator")}
                onClick={() => {
                  if (may && environment && !act.busy) void start();
                }}
              >
                <Play size={15} strokeWidth={1.75} />
                {rich("Run in {0}", environment || t("an environment"))}
              </button>
            )}
          </span>
        </div>
        <p className="px-5 pb-2 text-ink2">{suite.description}</p>
        {act.problems.length > 0 && (
          <div className="px-5 pb-2">
            <Problems problems={act.problems} />
          </div>
        )}
        {side === "text" ? (
          <SuiteText suite={suite} onSaved={onChanged} />
        ) : (
          <>
            <RunLine followed={followed} suite={suite.name} />
            <div className="min-h-0 grow overflow-auto">
              <Cases
                suite={suite}
                followed={followed}
                selected={selected?.name ?? ""}
                onSelect={choose}
                environment={environment}
              />
              <History suite={suite} number={number} onSelect={(one) => setSearch({ run: String(one) })} />
            </div>
          </>
        )}
      </section>
      {selected && side === "cases" && (
        <CaseDetail
          key={`${selected.name} ${number}`}
          suite={suite.name}
          part={selected}
          results={followed.results.filter((one) => one.suite === suite.name)}
          run={number}
          environment={followed.run?.environment ?? environment}
        />
      )}
    </div>
  );
}

/** The run that is shown: how far it is, and what changed since the one before. */
function RunLine({ followed, suite }: { followed: Followed; suite: string }) {
  const run = followed.run;
  if (followed.problems.length)
    return (
      <div className="px-5 pb-2">
        <Problems problems={followed.problems} />
      </div>
    );
  if (!run) return null;
  const mine = followed.results.filter((one) => one.suite === suite);
  const counts = countsOf(mine);
  const changes = run.changes.filter((one) => one.suite === suite);
  const done = mine.filter((one) => one.part === "case").length;
  return (
    <div className="border-y border-line bg-inset px-5 py-1.5" role="status">
      <span className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <span className="flex items-center gap-2 font-semibold">
          <Outcome of={run.state === "ended" ? (counts.failed ? "failed" : "passed") : run.state} />
        </span>
        <Counts run={counts} />
        <span className="text-ink2">
          {run.state === "running"
            ? t("{0} done in {1}", done, run.environment)
            : t(
                "run {0} in {1} by {2}, {3}, {4}",
                run.number,
                run.environment,
                run.author,
                when(run.begun_at),
                took(((run.ended_at ?? run.begun_at) - run.begun_at) * 1e6),
              )}
        </span>
        {run.purpose && <span className="text-ink2">{run.purpose}</span>}
        {run.words && <span className="text-ink2">{run.words}</span>}
      </span>
      {changes.length > 0 && run.before !== null && (
        <p className="mt-0.5">
          {t("Since run {0}:", run.before)}{" "}
          {changes.slice(0, 5).map((one) => (
            <span key={`${one.suite} ${one.case} ${one.row}`} className="mr-3 inline-flex items-center gap-1.5">
              <b className="font-semibold">{one.case}</b> {one.before || t("not there")} → <Outcome of={one.now} />
            </span>
          ))}
          {changes.length > 5 && t("and {0} more", changes.length - 5)}
        </p>
      )}
    </div>
  );
}

function Cases({
  suite,
  followed,
  selected,
  onSelect,
  environment,
}: {
  suite: SuiteDetail;
  followed: Followed;
  selected: string;
  onSelect: (name: string) => void;
  environment: string;
}) {
  const mine = followed.results.filter((one) => one.suite === suite.name);
  const shown = followed.run !== undefined;
  return (
    <table className="tbl">
      <thead>
        <tr>
          <th scope="col">{t("Case")}</th>
          <th scope="col">{t("Outcome")}</th>
          <th scope="col">{t("Operation")}</th>
          <th scope="col">{t("Expects")}</th>
          {!selected && <th scope="col">{t("As")}</th>}
        </tr>
      </thead>
      <tbody>
        {suite.parts.map((one) => (
          <tr
            key={`${one.section} ${one.name}`}
            aria-selected={one.name === selected}
            onClick={() => onSelect(one.name)}
          >
            <th scope="row" className="whitespace-nowrap">
              <button type="button" className="flex items-center gap-2 text-left">
                {one.fits.length > 0 && <Mark name="fault" label={t("does not fit its service")} />}
                <span className={one.section === "step" ? "text-ink2" : "font-medium"}>{one.name}</span>
                {one.rows > 0 && <span className="text-xs text-ink2">× {one.rows}</span>}
                {one.writes && <span className="text-xs text-warn">{t("writes")}</span>}
                {one.section === "step" && <span className="text-xs text-ink3">{t("step")}</span>}
              </button>
            </th>
            <td>
              {one.section === "step" ? null : (
                <Outcome of={shown ? outcomeOf(mine, one.name) : (one.last[environment] ?? "")} />
              )}
            </td>
            <td>{one.operation}</td>
            <td className={`truncate ${selected ? "max-w-32" : "max-w-52"}`} title={one.expects}>
              {one.expects}
            </td>
            {!selected && <td className="max-w-36 truncate text-ink2">{one.caller || t("who may")}</td>}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function History({
  suite,
  number,
  onSelect,
}: {
  suite: SuiteDetail;
  number: number | undefined;
  onSelect: (number: number) => void;
}) {
  if (!suite.history.length) return null;
  return (
    <section aria-label={t("Runs")} className="mt-4">
      <h2 className="px-5 pb-1 text-[15px] font-semibold">{t("Runs")}</h2>
      <table className="tbl">
        <tbody>
          {suite.history.slice(0, 12).map((one) => (
            <tr key={one.number} aria-selected={one.number === number} onClick={() => onSelect(one.number)}>
              <th scope="row">
                <button type="button" className="font-mono text-[12.5px]">
                  {one.number}
                </button>
              </th>
              <td>{when(one.begun_at)}</td>
              <td>{one.environment}</td>
              <td className="text-ink2">{one.author}</td>
              <td>
                <Counts run={one} />
              </td>
              <td className="text-ink2">{one.state === "ended" ? one.purpose : <Outcome of={one.state} />}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
