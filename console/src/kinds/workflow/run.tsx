/** Running what is written, before any release: on the backends of an environment, as a trial unless somebody says otherwise. */
import { useState } from "react";
import { useAct } from "../../act";
import { ask, type DraftRun, type Overview, type Span, type WorkflowLook } from "../../api";
import { took } from "../../formats";
import { useLoad } from "../../load";
import { Problems, Select } from "../../parts/controls";
import { Panel } from "../../parts/dialog";
import { Mark } from "../../parts/marks";
import { rich, t } from "../../text";

export function RunPanel({
  open,
  name,
  definition,
  inputs,
  environment,
  onClose,
  onRan,
}: {
  open: boolean;
  name: string;
  definition: { [key: string]: unknown } | null;
  inputs: WorkflowLook["input"];
  environment: string;
  onClose: () => void;
  onRan: (spans: Span[]) => void;
}) {
  const overview = useLoad<Overview>(open ? "/overview" : null);
  const [where, setWhere] = useState("");
  const [values, setValues] = useState("");
  const [real, setReal] = useState(false);
  const [ran, setRan] = useState<DraftRun | null>(null);
  const act = useAct();
  const place = where || environment;
  const go = () =>
    act.run(async () => {
      let given: unknown = null;
      if (values.trim()) {
        try {
          given = JSON.parse(values);
        } catch {
          setRan(null);
          throw new SyntaxError(t("The values are no JSON."));
        }
      }
      const found = await ask<DraftRun>("POST", `/workflows/${encodeURIComponent(name)}/run`, {
        definition,
        environment: place,
        values: given,
        trial: !real,
      });
      setRan(found);
      onRan(found.trace.spans);
    });
  return (
    <Panel title={t("Run {0} as it is written", name)} open={open} onClose={onClose} wide>
      <div className="grid grid-cols-[180px_minmax(0,1fr)] items-end gap-3">
        <div>
          <span className="lbl">{t("On the backends of")}</span>
          <Select
            label={t("Environment")}
            value={place}
            onChange={setWhere}
            options={(overview.data?.environments ?? []).map((one) => ({ value: one.name, word: one.name }))}
          />
        </div>
        <label className="pb-1 text-[13px]">
          <input type="checkbox" checked={real} onChange={(event) => setReal(event.target.checked)} />{" "}
          {t("store what it writes; without this it is a trial, and rolled back")}
        </label>
      </div>
      <label className="lbl mt-2" htmlFor="wf-values">
        {inputs.length ? t("Values as JSON; its samples when empty") : t("It takes nothing.")}
      </label>
      <textarea
        id="wf-values"
        className="field h-auto! py-1 font-mono text-[12.5px]"
        rows={3}
        spellCheck={false}
        value={values}
        placeholder={`{${inputs.map((one) => `"${one.name}": …`).join(", ")}}`}
        onChange={(event) => setValues(event.target.value)}
      />
      <div className="mt-2 flex items-center gap-3">
        <button type="button" className="btn btn-main" aria-disabled={act.busy} onClick={() => !act.busy && void go()}>
          {real ? t("Run it in {0} for real", place) : t("Run it in {0} as a trial", place)}
        </button>
        {ran && (
          <span className="flex items-center gap-1.5" role="status">
            <Mark name={ran.answer ? "serving" : "fault"} />
            {ran.answer
              ? rich("Answered after {0}", took(ran.micros))
              : rich("Ended in {0} after {1}", ran.fault || (ran.problems[0]?.code ?? ""), took(ran.micros))}
          </span>
        )}
      </div>
      <div className="mt-2">
        <Problems problems={[...act.problems, ...(ran?.problems ?? [])]} />
        {ran?.answer && (
          <pre className="mt-1 max-h-56 overflow-auto bg-inset p-2 font-mono text-[12px]">
            {JSON.stringify(ran.answer, null, 1)}
          </pre>
        )}
        {ran && ran.changes.length > 0 && (
          <p className="mt-1 text-xs text-ink2">
            {t(
              "It would have stored: {0}.",
              ran.changes.map((one) => `${one.action} ${one.object} ${Object.values(one.key).join(", ")}`).join("; "),
            )}
          </p>
        )}
      </div>
    </Panel>
  );
}
