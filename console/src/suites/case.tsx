/** One case: what it expects, in what the reply differed, both messages, and the ways on: to the bench, and out of here. */
import { useState } from "react";
import { Link } from "wouter";
import { ask, type CaseForms, type SuiteCase, type TestResult } from "../api";
import { useAct } from "../act";
import { took } from "../formats";
import { useLens, within } from "../lens";
import { CopyButton, Problems, Segments } from "../parts/controls";
import { Xml } from "../parts/xml";
import { Facts } from "../parts/rows";
import { rich, t } from "../text";
import { Outcome } from "./outcome";

export function CaseDetail({
  suite,
  part,
  results,
  run,
  environment,
}: {
  suite: string;
  part: SuiteCase;
  results: TestResult[];
  run: number | undefined;
  environment: string;
}) {
  const mine = results
    .filter((one) => one.case === part.name || one.case.endsWith(`/${part.name}`))
    .sort((one, other) => one.row.localeCompare(other.row, undefined, { numeric: true }));
  const [chosen, setChosen] = useState("");
  const worst = mine.find((one) => one.outcome === "failed") ?? mine[0];
  const shown = mine.find((one) => one.row === chosen && chosen) ?? worst;
  return (
    <aside
      className="flex min-h-0 flex-col overflow-auto border-l border-line bg-inset px-4 py-3"
      aria-label={t("The selected case")}
    >
      <h2 className="text-[15px] font-semibold break-all">{part.name}</h2>
      {part.description && <p className="text-ink2">{part.description}</p>}
      <div className="mt-1 font-semibold">
        <Outcome of={shown?.outcome ?? ""} />
      </div>
      {part.fits.length > 0 && (
        <div className="mt-2">
          <Problems problems={part.fits} />
        </div>
      )}
      {mine.length > 1 && (
        <div className="mt-2 flex flex-wrap gap-1.5" role="group" aria-label={t("Rows")}>
          {mine.map((one) => (
            <button
              key={one.number}
              type="button"
              className="btn"
              aria-pressed={one === shown}
              onClick={() => setChosen(one.row)}
            >
              <Outcome of={one.outcome} /> {one.row}
            </button>
          ))}
        </div>
      )}
      {shown && <ResultDetail shown={shown} run={run} environment={environment} />}
      {part.section === "case" && <FromOutside suite={suite} part={part} environment={environment} />}
    </aside>
  );
}

/** In what a reply differed, what was sent and what came, and the ways on. */
export function ResultDetail({
  shown,
  run,
  environment,
}: {
  shown: TestResult;
  run: number | undefined;
  environment: string;
}) {
  const [view] = useLens();
  return (
    <>
      {shown.problems.length > 0 && (
        <div className="mt-2">
          <Problems problems={shown.problems} />
        </div>
      )}
      {shown.warnings.length > 0 && (
        <div className="mt-2">
          <Problems problems={shown.warnings} mark="risk" />
        </div>
      )}
      <Facts
        copied={t("the call number")}
        rows={[
          [t("Call"), shown.call || t("none")],
          [t("Expected"), shown.expected],
          [t("Caller"), shown.caller || t("nobody")],
          [t("Face"), shown.face],
          [t("Status"), shown.status ? String(shown.status) : t("none")],
          [t("Took"), took(shown.ms * 1000)],
        ]}
      />
      <div className="mt-2 flex flex-wrap gap-3">
        {run !== undefined && shown.outcome === "failed" && Object.keys(shown.values).length > 0 && (
          <Link
            className="act"
            href={within(
              `/tests?${new URLSearchParams({
                service: shown.service,
                operation: shown.operation,
                against: environment,
                run: String(run),
                result: String(shown.number),
              }).toString()}`,
              view,
            )}
          >
            {t("Open it on the bench")}
          </Link>
        )}
        {shown.call && (
          <Link className="act" href={within(`/calls?call=${encodeURIComponent(shown.call)}`, view)}>
            {t("Its trace among the calls")}
          </Link>
        )}
      </div>
      {shown.request && <Message title={t("Request")} source={shown.request} />}
      {shown.response && <Message title={t("Response")} source={shown.response} />}
    </>
  );
}

function Message({ title, source }: { title: string; source: string }) {
  return (
    <section className="mt-3 min-w-0" aria-label={title}>
      <h3 className="lbl flex items-center">
        {title}
        <CopyButton text={source} what={title.toLowerCase()} />
      </h3>
      <div className="max-h-64 overflow-auto border border-line bg-sheet">
        <Xml source={source} label={title} />
      </div>
    </section>
  );
}

/** The case as a request that is sent from elsewhere. */
function FromOutside({ suite, part, environment }: { suite: string; part: SuiteCase; environment: string }) {
  const act = useAct();
  const [found, setFound] = useState<CaseForms>();
  const [form, setForm] = useState("curl");
  const load = () =>
    act.run(async () => {
      setFound(
        await ask<CaseForms>(
          "GET",
          `/suites/${encodeURIComponent(suite)}/cases/${encodeURIComponent(part.name)}/request?environment=${encodeURIComponent(environment)}`,
        ),
      );
    });
  if (!environment) return null;
  const shown = found?.forms[form] ?? "";
  return (
    <section className="mt-4 border-t border-line pt-2" aria-label={t("From outside")}>
      <h3 className="flex items-center gap-2 font-semibold">
        {t("From outside")}
        {!found && (
          <button type="button" className="btn ml-auto" aria-disabled={act.busy} onClick={() => void load()}>
            {rich("Show it for {0}", environment)}
          </button>
        )}
      </h3>
      <Problems problems={act.problems} />
      {found && (
        <>
          <div className="mt-1 flex items-center gap-2">
            <Segments
              label={t("Form")}
              value={form}
              onChange={setForm}
              options={Object.keys(found.forms).map((one) => ({ value: one, word: one }))}
            />
            <span className="ml-auto">
              <CopyButton text={shown} what={form} />
            </span>
          </div>
          <pre className="mt-1 max-h-56 overflow-auto border border-line bg-sheet p-2 font-mono text-[11.5px] leading-4">
            {shown}
          </pre>
          <p className="mt-1 text-xs text-ink2">
            {rich(
              "The token of {0} is read from {1}.",
              found.caller,
              <code className="font-mono text-[11.5px]">BRICOLA_TOKEN</code>,
            )}
          </p>
        </>
      )}
    </section>
  );
}
