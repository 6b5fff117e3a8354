/** Jobs: accepted calls that are done later; what every step gave, and what people decide about them. */
import { useState } from "react";
import { Link, useLocation } from "wouter";
import { useAct } from "../act";
import { useAddress } from "../address";
import { ask, ProblemError, type Job, type JobAct, type JobDetail, type JobEntry } from "../api";
import { plural, when } from "../formats";
import { steps, useKeys } from "../hotkeys";
import { ALL, useLens, within } from "../lens";
import { useLoad } from "../load";
import { NotLoaded, Problems, Segments } from "../parts/controls";
import { Labelled, Panel } from "../parts/dialog";
import { Mark, STATE_MARK, type MarkName } from "../parts/marks";
import { Facts, TimeRow } from "../parts/rows";
import { mayAtLeast, useSession } from "../session";
import { rich, t } from "../text";

const OPEN = ["waiting", "running"];
const ATTENTION = ["outcome unknown", "failed"];

const ACTS: Record<JobAct, { word: string; asks: string; bad?: boolean }> = {
  cancel: { word: t("Cancel"), asks: t("It ends, and what it did is undone."), bad: true },
  again: { word: t("Try again"), asks: t("What it stored and is still there stays; all else is done anew.") },
  stored: {
    word: t("It was stored"),
    asks: t("The job goes on as if the step had answered this. Look at the backend first: nothing checks it."),
  },
  "not stored": { word: t("It was not stored"), asks: t("The step is done now, and the job goes on.") },
  leave: { word: t("End as it is"), asks: t("Nothing is undone, since somebody has set it right by hand."), bad: true },
};

export default function JobsPage() {
  const [view] = useLens();
  const [search, setSearch] = useAddress();
  const only = search.get("only") ?? "all";
  const query = new URLSearchParams({ limit: "200" });
  if (view !== ALL) query.set("environment", view);
  const { data, error, reload } = useLoad<Job[]>(`/jobs?${query}`, 3);
  const shown = (data ?? []).filter(
    (one) => only === "all" || (only === "open" ? OPEN : ATTENTION).includes(one.state),
  );
  const selected = (data ?? []).find((one) => one.job === search.get("job"));
  const set = (name: string, value: string) => setSearch({ [name]: value });
  useKeys({ ...steps(shown, selected, (one) => set("job", one.job)), Escape: () => set("job", "") });

  if (error && !data) return <NotLoaded error={error} />;
  if (!data) return null;
  const waiting = data.filter((one) => one.state === "outcome unknown").length;
  return (
    <div className={`grid min-h-0 grow ${selected ? "grid-cols-[minmax(0,1fr)_440px]" : ""}`}>
      <section className="flex min-h-0 min-w-0 flex-col">
        <div className="flex items-center gap-3 px-5 pt-3 pb-2">
          <h1 className="text-[20px] leading-6 font-semibold">{t("Jobs")}</h1>
          <span className="text-xs text-ink2">
            {rich("{0} shown", plural(shown.length, "job"))}
            {waiting > 0 && (
              <span className="text-bad">{rich(", {0} for somebody to decide", plural(waiting, "job"))}</span>
            )}
          </span>
          <span className="ml-auto">
            <Segments
              label={t("Which jobs")}
              value={only}
              onChange={(next) => set("only", next === "all" ? "" : next)}
              options={[
                { value: "all", word: t("All") },
                { value: "open", word: t("Under way") },
                { value: "attention", word: t("Failed or unknown") },
              ]}
            />
          </span>
        </div>
        <div className="min-h-0 overflow-auto">
          <table className="tbl">
            <thead>
              <tr>
                <th scope="col">{t("Accepted")}</th>
                <th scope="col">{t("Operation")}</th>
                {!selected && <th scope="col">{t("Environment")}</th>}
                <th scope="col">{t("Caller")}</th>
                <th scope="col">{t("State")}</th>
                <th scope="col" className="n">
                  {t("Steps")}
                </th>
                <th scope="col">{t("Last step")}</th>
              </tr>
            </thead>
            <tbody>
              {shown.map((one) => (
                <TimeRow
                  key={one.job}
                  at={one.accepted_at}
                  selected={one === selected}
                  onSelect={() => set("job", one.job)}
                >
                  <td className="font-medium">
                    {one.service}.{one.operation}
                  </td>
                  {!selected && <td className="text-ink2">{one.environment}</td>}
                  <td>{one.caller}</td>
                  <td>
                    <State state={one.state} />
                  </td>
                  <td className="n">{one.steps}</td>
                  <td className="max-w-56 truncate font-mono text-[12.5px] text-ink2">{one.step}</td>
                </TimeRow>
              ))}
            </tbody>
          </table>
          {!shown.length && (
            <p className="px-5 py-3 text-ink2">
              {data.length
                ? t("No job is in such a state.")
                : rich(
                    "No job yet. A workflow with {0} makes one of every call.",
                    <code className="font-mono text-[12.5px]">answers: later</code>,
                  )}
            </p>
          )}
        </div>
      </section>
      {selected && <Detail key={selected.job} job={selected} onDecided={reload} />}
    </div>
  );
}

function State({ state }: { state: string }) {
  return (
    <span className="flex items-center gap-2">
      <Mark name={STATE_MARK[state] ?? "none"} />
      <span className={state === "outcome unknown" ? "font-medium text-bad" : ""}>{state}</span>
    </span>
  );
}

function Detail({ job, onDecided }: { job: Job; onDecided: () => void }) {
  const session = useSession();
  const [view] = useLens();
  const [, go] = useLocation();
  const may = mayAtLeast(session, "operator");
  const { data, reload } = useLoad<JobDetail>(may ? `/jobs/${encodeURIComponent(job.job)}` : null, 3);
  const [deciding, setDeciding] = useState<JobAct | "">("");
  return (
    <aside
      className="flex min-h-0 flex-col overflow-auto border-l border-line bg-inset px-4 py-3"
      aria-label={t("The selected job")}
    >
      <h2 className="text-[15px] font-semibold break-all">
        {job.service}.{job.operation}
      </h2>
      <div className="mt-1 font-semibold">
        <State state={job.state} />
      </div>
      {job.words && <p className="mt-1 break-words">{job.words}</p>}
      {job.cancelled_by && job.state === "running" && (
        <p className="mt-1 text-ink2">{t("{0} wants it to end.", job.cancelled_by)}</p>
      )}
      {may && job.acts.length > 0 && (
        <div className="mt-3 flex flex-wrap gap-2">
          {job.acts.map((act) => (
            <button key={act} type="button" className="btn" onClick={() => setDeciding(act)}>
              {ACTS[act].word}…
            </button>
          ))}
        </div>
      )}
      <Facts
        copied={t("the job number")}
        rows={[
          [t("Job"), job.job],
          [t("Workflow"), job.workflow],
          [t("Caller"), job.caller],
          [t("Release"), t("r{0} in {1}", job.release, job.environment)],
          [t("Accepted"), when(job.accepted_at)],
          [t("Changed"), when(job.changed_at)],
          [t("At the latest"), when(job.ends_at)],
          [t("Attempt"), String(job.attempt)],
          ...(job.reply_to ? [[t("Told to"), `${job.reply_to}: ${job.told || t("not yet")}`] as const] : []),
        ]}
      />
      {data && <Journal job={data} />}
      <Link href={within(`/calls?call=${encodeURIComponent(job.job)}`, view)} className="act mt-3 self-start">
        {t("Its trace among the calls")}
      </Link>
      {deciding && (
        <Decide
          job={job}
          act={deciding}
          onClose={() => setDeciding("")}
          onDone={() => {
            setDeciding("");
            onDecided();
            reload();
            go(within(`/jobs?job=${encodeURIComponent(job.job)}`, view));
          }}
        />
      )}
    </aside>
  );
}

const ENTRY_MARKS: Record<string, MarkName> = { began: "risk", done: "serving", failed: "fault" };

function Journal({ job }: { job: JobDetail }) {
  return (
    <section className="mt-4" aria-label={t("The journal")}>
      <h3 className="lbl">{t("Took")}</h3>
      <Values value={job.input} />
      {job.answer !== null && job.answer !== undefined && (
        <>
          <h3 className="lbl mt-3">{t("Gave")}</h3>
          <Values value={job.answer} />
        </>
      )}
      <h3 className="lbl mt-3">{t("Journal, the newest first")}</h3>
      <ol reversed>
        {job.journal.toReversed().map((one, index) => (
          <li key={index} className="border-t border-line py-1.5">
            <span className="flex items-center gap-2">
              <Mark name={ENTRY_MARKS[one.mark] ?? "none"} label={wordOf(one)} />
              <span className="font-mono text-[12.5px] break-all">{one.step}</span>
              <span className="ml-auto text-xs text-ink2">{wordOf(one)}</span>
            </span>
            {one.words && <p className="ml-5 text-xs break-words text-bad">{one.words}</p>}
            {one.value !== null && one.value !== undefined && <Values value={one.value} />}
          </li>
        ))}
      </ol>
      {!job.journal.length && <p className="text-xs text-ink2">{t("Nothing is done yet.")}</p>}
    </section>
  );
}

function wordOf(one: JobEntry): string {
  if (one.undoing) return one.mark === "done" ? t("undone") : t("not undone");
  return one.mark;
}

function Values({ value }: { value: unknown }) {
  const text = JSON.stringify(value);
  if (text.length < 60) return <p className="ml-5 font-mono text-[11.5px] leading-4 text-ink2">{text}</p>;
  return (
    <details className="ml-5 text-ink2">
      <summary className="truncate font-mono text-[11.5px] leading-4">{text}</summary>
      <pre className="overflow-x-auto font-mono text-[11.5px] leading-4">{JSON.stringify(value, null, 1)}</pre>
    </details>
  );
}

/** Every decision is asked about first: it touches what a caller waits for. */
function Decide({ job, act, onClose, onDone }: { job: Job; act: JobAct; onClose: () => void; onDone: () => void }) {
  const { busy, problems, run } = useAct();
  const [answer, setAnswer] = useState("{}");
  const decide = () =>
    run(async () => {
      const body = act === "stored" ? { act, answer: parsed(answer) } : { act };
      await ask("POST", `/jobs/${encodeURIComponent(job.job)}`, body);
      onDone();
    });
  return (
    <Panel title={t("{0}: {1}.{2}", ACTS[act].word, job.service, job.operation)} open onClose={onClose}>
      <p className="mb-3">{ACTS[act].asks}</p>
      {act === "stored" && (
        <Labelled label={t("What {0} answered, as JSON", job.step)}>
          {(id) => (
            <textarea
              id={id}
              className="field font-mono text-[12.5px]"
              rows={5}
              value={answer}
              onChange={(event) => setAnswer(event.target.value)}
            />
          )}
        </Labelled>
      )}
      <Problems problems={problems} />
      <div className="mt-3 flex justify-end gap-2">
        <button type="button" className="btn" onClick={onClose}>
          {t("Keep it as it is")}
        </button>
        <button
          type="button"
          className={`btn ${ACTS[act].bad ? "btn-bad" : "btn-main"}`}
          disabled={busy}
          onClick={() => void decide()}
        >
          {ACTS[act].word}
        </button>
      </div>
    </Panel>
  );
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch (error) {
    throw new ProblemError(
      [{ code: "job.answer", kind: "input", message: t("This is no JSON."), found: String(error) }],
      400,
    );
  }
}
