/** What the workflow takes and gives, its faults, and what bounds it. */
import type { WorkflowLook } from "../../api";
import { textOf } from "./tree";
import { t } from "../../text";
import { Segments } from "../../parts/controls";
import { Field, Switch, TakeOut, Wrong, type Around } from "./fields";

type Part = { [key: string]: unknown };
type Parts = Record<string, Part>;
const SIMPLE = [
  "string",
  "int",
  "long",
  "decimal",
  "boolean",
  "date",
  "time",
  "dateTime",
  "duration",
  "double",
  "integer",
];

export function Frame({
  definition,
  look,
  around,
  onChange,
}: {
  definition: Part;
  look: WorkflowLook;
  around: Around;
  onChange: (change: Part) => void;
}) {
  const text = (key: string) => textOf(definition[key]);
  const faults = Object.entries((definition.faults ?? {}) as Record<string, Part>);
  const writeFaults = (entries: [string, Part][]) =>
    onChange({ faults: entries.length ? Object.fromEntries(entries) : undefined });
  const general = around.problems.filter(
    (one) => !["input", "output", "faults"].includes(one.part.split(".")[0] ?? ""),
  );
  return (
    <section aria-label={t("The workflow")} className="min-h-0 overflow-auto px-5 py-3">
      <Field label={t("Description")}>
        {(id) => (
          <input
            id={id}
            className="field"
            value={text("description")}
            readOnly={!around.may}
            onChange={(event) => onChange({ description: event.target.value || undefined })}
          />
        )}
      </Field>
      {text("contract") ? (
        <p className="mb-2 text-xs text-ink2">
          {t("Input, output and faults are those of {0} in the contract {1}.", text("operation"), text("contract"))}
        </p>
      ) : (
        <>
          <Typed
            title={t("Input")}
            parts={(definition.input ?? {}) as Parts}
            around={around}
            part="input"
            add={t("One more input")}
            onChange={(input) => onChange({ input })}
          />
          <Typed
            title={t("Output")}
            parts={(definition.output ?? {}) as Parts}
            around={around}
            part="output"
            add={t("One more output")}
            onChange={(output) => onChange({ output })}
          />
          <h3 className="mt-3 mb-1 text-[13px] font-semibold">{t("Declared faults")}</h3>
          {faults.map(([name, one], index) => (
            <div key={index} className="mb-2 border-l-2 border-bad pl-3">
              <div className="grid grid-cols-[180px_minmax(0,1fr)_24px] gap-1.5">
                <input
                  className="field font-semibold"
                  aria-label={t("Name of the fault")}
                  value={name}
                  readOnly={!around.may}
                  onChange={(event) =>
                    writeFaults(faults.map((two, at) => (at === index ? [event.target.value, one] : two)))
                  }
                />
                <input
                  className="field"
                  aria-label={t("Description of {0}", name)}
                  placeholder={t("what it means")}
                  value={textOf(one.description)}
                  readOnly={!around.may}
                  onChange={(event) =>
                    writeFaults(
                      faults.map((two, at) =>
                        at === index ? [name, { ...one, description: event.target.value || undefined }] : two,
                      ),
                    )
                  }
                />
                <TakeOut
                  name={name}
                  around={around}
                  onClick={() => writeFaults(faults.filter((_, at) => at !== index))}
                />
              </div>
              <Typed
                title=""
                parts={(one.fields ?? {}) as Parts}
                around={around}
                part={`faults.${name}`}
                add={t("One more field")}
                onChange={(fields) =>
                  writeFaults(faults.map((two, at) => (at === index ? [name, { ...one, fields }] : two)))
                }
              />
            </div>
          ))}
          {around.may && (
            <button
              type="button"
              className="act text-xs"
              onClick={() => writeFaults([...faults, [`Fault${faults.length + 1}`, {}]])}
            >
              {t("Declare one more")}
            </button>
          )}
          <Wrong problems={around.problems} part="faults" />
        </>
      )}
      <div className="mt-3 grid grid-cols-3 gap-2 border-t border-line pt-3">
        <Field label={t("At most seconds")}>
          {(id) => (
            <input
              id={id}
              className="field"
              value={text("seconds")}
              readOnly={!around.may}
              onChange={(event) => onChange({ seconds: event.target.value || undefined })}
            />
          )}
        </Field>
        <Field label={t("Calls at once")}>
          {(id) => (
            <input
              id={id}
              className="field"
              value={text("at_once")}
              readOnly={!around.may}
              onChange={(event) =>
                onChange({ at_once: event.target.value ? Number(event.target.value) || event.target.value : undefined })
              }
            />
          )}
        </Field>
      </div>
      <Answering definition={definition} around={around} onChange={onChange} />
      {general.map((one, index) => (
        <Wrong key={index} problems={[one]} part={one.part} />
      ))}
      <p className="mt-2 text-xs text-ink3">{t("{0} steps, revision {1}", look.steps.length, look.revision)}</p>
    </section>
  );
}

/** When the caller has an answer, and what goes with it. */
function Answering({
  definition,
  around,
  onChange,
}: {
  definition: Part;
  around: Around;
  onChange: (change: Part) => void;
}) {
  const answers = textOf(definition.answers) || "now";
  const words: Record<string, string> = {
    now: t("The caller waits for the answer."),
    later: t("The caller has the number of a job at once, and asks for its state and result."),
    nothing: t("The caller has nothing: the call is kept, and done as a job."),
  };
  return (
    <div className="mt-3 border-t border-line pt-3">
      <div className="flex items-center gap-3">
        <span className="lbl mb-0!">{t("Answers")}</span>
        {around.may ? (
          <Segments
            label={t("When it answers")}
            value={answers}
            onChange={(next) =>
              onChange({
                answers: next === "now" ? undefined : next,
                ...(next === "now" ? {} : { caller_leaves: undefined, tells_writes: undefined }),
                ...(next === "later" ? {} : { call_back: undefined }),
              })
            }
            options={[
              { value: "now", word: t("now") },
              { value: "later", word: t("later") },
              { value: "nothing", word: t("nothing") },
            ]}
          />
        ) : (
          <span>{answers}</span>
        )}
        <span className="text-xs text-ink2">{words[answers]}</span>
      </div>
      <div className="mt-2 flex flex-col gap-1">
        {answers === "now" && (
          <>
            <Switch
              on={definition.caller_leaves === "stop"}
              may={around.may}
              word={t("Stop it, and undo what it did, when the caller is gone")}
              onChange={(on) => onChange({ caller_leaves: on ? "stop" : undefined })}
            />
            <Switch
              on={definition.tells_writes === true}
              may={around.may}
              word={t("Say with the answer what it wrote")}
              onChange={(on) => onChange({ tells_writes: on || undefined })}
            />
          </>
        )}
        {answers === "later" && (
          <Switch
            on={definition.call_back === true}
            may={around.may}
            word={t("Send the result to the address that the caller names (WS-Addressing ReplyTo)")}
            onChange={(on) => onChange({ call_back: on || undefined })}
          />
        )}
      </div>
    </div>
  );
}

function Typed({
  title,
  parts,
  around,
  part,
  add,
  onChange,
}: {
  title: string;
  parts: Parts;
  around: Around;
  part: string;
  add: string;
  onChange: (parts: Parts | undefined) => void;
}) {
  const all = Object.entries(parts);
  const write = (entries: [string, Part][]) => onChange(entries.length ? Object.fromEntries(entries) : undefined);
  return (
    <div className="mb-2">
      {title && <h3 className="mt-2 mb-1 text-[13px] font-semibold">{title}</h3>}
      {all.map(([name, one], index) => {
        const change = (more: Part) => {
          const next = Object.fromEntries(
            Object.entries({ ...one, ...more }).filter(([, value]) => value !== undefined && value !== ""),
          );
          write(all.map((two, at) => (at === index ? [name, next] : two)));
        };
        return (
          <div key={index}>
            <div className="mb-1 grid grid-cols-[150px_130px_auto_auto_minmax(0,1fr)_24px] items-center gap-1.5">
              <input
                className="field font-mono text-[12.5px]"
                aria-label={t("Name")}
                value={name}
                readOnly={!around.may}
                onChange={(event) => write(all.map((two, at) => (at === index ? [event.target.value, one] : two)))}
              />
              <input
                className="field font-mono text-[12.5px]"
                aria-label={t("Type of {0}", name)}
                list="wf-types"
                value={textOf(one.type)}
                readOnly={!around.may}
                onChange={(event) => change({ type: event.target.value })}
              />
              <label className="flex items-center gap-1 text-xs whitespace-nowrap">
                <input
                  type="checkbox"
                  checked={one.required !== false}
                  disabled={!around.may}
                  onChange={(event) => change({ required: event.target.checked ? undefined : false })}
                />
                {t("required")}
              </label>
              <label className="flex items-center gap-1 text-xs whitespace-nowrap">
                <input
                  type="checkbox"
                  checked={one.repeats === true}
                  disabled={!around.may}
                  onChange={(event) => change({ repeats: event.target.checked || undefined })}
                />
                {t("list")}
              </label>
              <input
                className="field"
                aria-label={t("Description of {0}", name)}
                value={textOf(one.description)}
                readOnly={!around.may}
                onChange={(event) => change({ description: event.target.value })}
              />
              <TakeOut name={name} around={around} onClick={() => write(all.filter((_, at) => at !== index))} />
            </div>
            <Wrong problems={around.problems} part={`${part}.${name}`} />
          </div>
        );
      })}
      <datalist id="wf-types">
        {SIMPLE.map((one) => (
          <option key={one} value={one} />
        ))}
      </datalist>
      {around.may && (
        <button
          type="button"
          className="act text-xs"
          onClick={() => write([...all, [`value${all.length + 1}`, { type: "string" }]])}
        >
          {add}
        </button>
      )}
    </div>
  );
}
