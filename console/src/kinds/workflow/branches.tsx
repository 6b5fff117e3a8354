/** The blocks of a step: branches by condition, lanes at once, handlers of what is caught. */
import { t } from "../../text";
import { Collect } from "./collect";
import { Expression, TakeOut, Wrong } from "./fields";
import { type PartsProps } from "./putting";
import { actionOf, type Step } from "./tree";

export function Branches({ step, put, around }: PartsProps) {
  const when = (step.when ?? {}) as Record<string, { test?: string }>;
  const all = Object.entries(when);
  const write = (entries: [string, { test?: string }][]) => put({ when: Object.fromEntries(entries) });
  return (
    <>
      {all.map(([name, one], index) => (
        <div key={index} className="mb-1.5 grid grid-cols-[132px_minmax(0,1fr)_24px] items-start gap-1.5">
          <input
            className="field"
            aria-label={t("Name of the branch")}
            value={name}
            readOnly={!around.may}
            onChange={(event) => write(all.map((two, at) => (at === index ? [event.target.value, one] : two)))}
          />
          <Expression
            bare
            label={t("Condition of {0}", name)}
            value={one.test ?? ""}
            part={`${name}.test`}
            around={around}
            onChange={(test) => write(all.map((two, at) => (at === index ? [name, { ...one, test }] : two)))}
          />
          <TakeOut name={name} around={around} onClick={() => write(all.filter((_, at) => at !== index))} />
        </div>
      ))}
      {around.may && (
        <p className="flex gap-4">
          <button
            type="button"
            className="act text-xs"
            onClick={() => write([...all, [`branch${all.length + 1}`, { test: "" }]])}
          >
            {t("One more branch")}
          </button>
          <button
            type="button"
            className="act text-xs"
            onClick={() => put({ otherwise: "otherwise" in step ? undefined : {} })}
          >
            {"otherwise" in step ? t("Without a branch for the rest") : t("A branch for the rest")}
          </button>
        </p>
      )}
    </>
  );
}

export function Lanes({ step, put, around }: PartsProps) {
  const lanes = Object.entries((step.parallel ?? {}) as Record<string, Step>);
  const write = (entries: [string, Step][]) => put({ parallel: Object.fromEntries(entries) });
  return (
    <>
      {lanes.map(([name, one], index) => (
        <div key={index} className="mb-1.5 grid grid-cols-[160px_24px] gap-1.5">
          <input
            className="field"
            aria-label={t("Name of the lane")}
            value={name}
            readOnly={!around.may}
            onChange={(event) => write(lanes.map((two, at) => (at === index ? [event.target.value, one] : two)))}
          />
          <TakeOut name={name} around={around} onClick={() => write(lanes.filter((_, at) => at !== index))} />
        </div>
      ))}
      {around.may && (
        <button
          type="button"
          className="act text-xs"
          onClick={() => write([...lanes, [`lane${lanes.length + 1}`, {}]])}
        >
          {t("One more lane")}
        </button>
      )}
    </>
  );
}

export function Handlers({ step, put, around, look }: PartsProps) {
  const all = Object.entries((step.catch ?? {}) as Record<string, Step>);
  const write = (entries: [string, Step][]) => put({ catch: entries.length ? Object.fromEntries(entries) : undefined });
  const loops = actionOf(step) === "for_each";
  const raised = [...new Set([...look.steps.flatMap((one) => one.faults), ...look.faults, "anything"])];
  return (
    <div className="mt-2">
      <h3 className="mb-1 text-[13px] font-semibold">{loops ? t("An item that fails") : t("Catches")}</h3>
      {all.map(([name, one], index) => {
        const change = (more: Step) =>
          write(all.map((two, at) => (at === index ? [name, tidy({ ...one, ...more })] : two)));
        return (
          <div key={index} className="mb-2 border-l-2 border-bad pl-3">
            <div className="grid grid-cols-[160px_minmax(0,1fr)_24px] gap-1.5">
              <input
                className="field"
                aria-label={t("Fault, or a name")}
                list="wf-raised"
                value={name}
                readOnly={!around.may}
                onChange={(event) => write(all.map((two, at) => (at === index ? [event.target.value, one] : two)))}
              />
              <input
                className="field font-mono text-[12.5px]"
                aria-label={t("Codes of problems")}
                placeholder={t("or codes, like backend, outside.slow")}
                value={((one.codes ?? []) as string[]).join(", ")}
                readOnly={!around.may}
                onChange={(event) =>
                  change({
                    codes: event.target.value
                      .split(",")
                      .map((two) => two.trim())
                      .filter(Boolean),
                  })
                }
              />
              <TakeOut name={name} around={around} onClick={() => write(all.filter((_, at) => at !== index))} />
            </div>
            {loops && (
              <>
                <Collect
                  title={t("Then the item gives")}
                  value={one.collect}
                  part={`catch.${name}.collect`}
                  around={around}
                  onChange={(collect) => change({ collect })}
                />
                <label className="text-xs">
                  <input
                    type="checkbox"
                    checked={one.stop === true}
                    disabled={!around.may}
                    onChange={(event) => change({ stop: event.target.checked || undefined })}
                  />{" "}
                  {t("and the loop stops")}
                </label>
              </>
            )}
          </div>
        );
      })}
      <datalist id="wf-raised">
        {raised.map((one) => (
          <option key={one} value={one} />
        ))}
      </datalist>
      {around.may && (
        <p className="flex gap-4">
          <button
            type="button"
            className="act text-xs"
            onClick={() => write([...all, [raised.find((one) => !all.some(([name]) => name === one)) ?? "other", {}]])}
          >
            {t("Catch one more")}
          </button>
          {!loops && (
            <button
              type="button"
              className="act text-xs"
              onClick={() => put({ always: "always" in step ? undefined : {} })}
            >
              {"always" in step ? t("Nothing is done always") : t("Do something always")}
            </button>
          )}
        </p>
      )}
      <Wrong problems={around.problems.filter((one) => one.part.startsWith("catch"))} part="catch" />
    </div>
  );
}

const tidy = (step: Step): Step =>
  Object.fromEntries(
    Object.entries(step).filter(([, value]) => value !== undefined && !(Array.isArray(value) && !value.length)),
  );
