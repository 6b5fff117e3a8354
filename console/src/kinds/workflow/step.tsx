/** One step: what it does, what it takes, what is wrong with it, what may be spoken of in it. */
import { ArrowDown, ArrowUp, Trash2 } from "lucide-react";
import { useState } from "react";
import type { Language, StepLook, WorkflowLook } from "../../api";
import { rich, t } from "../../text";
import { kindOf } from "../index";
import { Expression, Field, Rows, short, Wrong, type Around } from "./fields";
import { Filling } from "./filling";
import { ActionIcon, WORDS } from "./icons";
import { actionOf, blocks, textOf, type Node, type Spot, type Step } from "./tree";

type Put = (change: Step) => void;
type Tree = Record<string, unknown>;

export function StepPane({
  node,
  look,
  about,
  language,
  around,
  onChange,
  onRename,
  onRemove,
  onMove,
  onInsert,
}: {
  node: Node;
  look: WorkflowLook;
  about: StepLook | undefined;
  language: Language | undefined;
  around: Around;
  onChange: (step: Step) => void;
  onRename: (name: string) => void;
  onRemove: () => void;
  onMove: (by: 1 | -1) => void;
  onInsert: (spot: Spot, after: string | null) => void;
}) {
  const [tab, setTab] = useState<"step" | "known">("step");
  const step = node.step;
  const action = actionOf(step);
  const put: Put = (change) => {
    const next = { ...step, ...change };
    for (const [key, value] of Object.entries(next)) if (value === "" && key !== action) delete next[key];
    for (const [key, value] of Object.entries(change)) if (value === undefined) delete next[key];
    onChange(next);
  };
  const whole = around.problems.filter((one) => one.part === "");
  return (
    <section aria-label={t("The chosen step")} className="flex min-h-0 min-w-0 flex-col">
      <div className="flex items-center gap-2 border-b border-line px-5 pt-3 pb-2">
        <ActionIcon step={step} className="text-ink2" />
        <input
          key={node.path}
          aria-label={t("Name of the step")}
          className="field w-52! font-semibold"
          defaultValue={node.name}
          readOnly={!around.may}
          onBlur={(event) => event.target.value !== node.name && onRename(event.target.value)}
        />
        <span className="truncate text-xs text-ink2">
          {WORDS[action]}
          {about?.kind && ` · ${kindOf(about.kind).word}${about.writes ? t(", writes") : ""}`}
        </span>
        {around.may && (
          <span className="ml-auto flex">
            <button type="button" className="ibtn" aria-label={t("Move up")} onClick={() => onMove(-1)}>
              <ArrowUp size={16} strokeWidth={1.75} />
            </button>
            <button type="button" className="ibtn" aria-label={t("Move down")} onClick={() => onMove(1)}>
              <ArrowDown size={16} strokeWidth={1.75} />
            </button>
            <button type="button" className="ibtn" aria-label={t("Take the step out")} onClick={onRemove}>
              <Trash2 size={16} strokeWidth={1.75} />
            </button>
          </span>
        )}
      </div>
      <div className="flex gap-4 border-b border-line px-5" role="tablist">
        {(
          [
            ["step", t("Step")],
            ["known", t("Known before {0}", about?.known.length ?? 0)],
          ] as const
        ).map(([value, word]) => (
          <button
            key={value}
            type="button"
            role="tab"
            aria-selected={tab === value}
            onClick={() => setTab(value)}
            className={`h-8 text-[13px] ${tab === value ? "border-b-2 border-band font-semibold" : "text-ink2"}`}
          >
            {word}
          </button>
        ))}
      </div>
      <div className="min-h-0 grow overflow-auto px-5 py-3">
        {tab === "known" ? (
          <Known about={about} />
        ) : (
          <>
            {whole.length > 0 && (
              <div className="mb-2">
                <Wrong problems={whole} part="" />
              </div>
            )}
            <Parts step={step} put={put} look={look} about={about} language={language} around={around} />
            {around.may && <Inside node={node} onInsert={onInsert} />}
            <Common step={step} put={put} around={around} />
          </>
        )}
      </div>
    </section>
  );
}

/** The blocks of the step, each with a way to put a step into it. */
function Inside({ node, onInsert }: { node: Node; onInsert: (spot: Spot, after: string | null) => void }) {
  const all = blocks(node.step);
  if (!all.length) return null;
  return (
    <div className="mt-3">
      <h3 className="mb-1 text-[13px] font-semibold">{t("Inside")}</h3>
      <ul>
        {all.map((one) => {
          const names = Object.keys(one.steps);
          const word = one.word === "do" ? t("its steps") : one.word === "catch" ? t("on {0}", one.name) : one.name;
          return (
            <li key={one.key} className="flex h-7 items-center gap-2 border-b border-line">
              <span>{word}</span>
              <span className="truncate text-xs text-ink2">{names.join(", ") || t("nothing yet")}</span>
              <button
                type="button"
                className="act ml-auto text-xs whitespace-nowrap"
                onClick={() => onInsert({ path: node.path, key: one.key }, names.at(-1) ?? null)}
              >
                {t("Insert in {0}", word)}
              </button>
            </li>
          );
        })}
      </ul>
    </div>
  );
}

function Known({ about }: { about: StepLook | undefined }) {
  return (
    <table className="tbl">
      <thead>
        <tr>
          <th scope="col">{t("Name")}</th>
          <th scope="col">{t("Type")}</th>
          <th scope="col">{t("Value of the sample")}</th>
        </tr>
      </thead>
      <tbody>
        {about?.known.map((one) => (
          <tr key={one.path}>
            <th scope="row" className="font-mono text-[12.5px] whitespace-nowrap">
              {one.path.includes(".") ? <span className="font-normal">{one.path}</span> : one.path}
            </th>
            <td className="text-ink2">
              {one.type}
              {one.optional && <span className="text-warn"> {t("may be absent")}</span>}
            </td>
            <td className="max-w-60 truncate font-mono text-[12px]" title={short(one.value)}>
              {one.value === undefined ? "" : short(one.value)}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Common({ step, put, around }: { step: Step; put: Put; around: Around }) {
  return (
    <div className="mt-3 border-t border-line pt-3">
      <Expression
        label={t("Only if")}
        value={textOf(step.only_if)}
        part="only_if"
        around={around}
        onChange={(only_if) => put({ only_if })}
      />
      <div className="grid grid-cols-[120px_minmax(0,1fr)] gap-2">
        <Field label={t("At most seconds")}>
          {(id) => (
            <input
              id={id}
              className="field"
              inputMode="decimal"
              value={textOf(step.seconds)}
              readOnly={!around.may}
              onChange={(event) => put({ seconds: numeric(event.target.value) })}
            />
          )}
        </Field>
        <Field label={t("Description")}>
          {(id) => (
            <input
              id={id}
              className="field"
              value={textOf(step.description)}
              readOnly={!around.may}
              onChange={(event) => put({ description: event.target.value })}
            />
          )}
        </Field>
      </div>
    </div>
  );
}

const numeric = (text: string) => (text === "" ? undefined : /^\d+$/.test(text) ? Number(text) : text);

interface PartsProps {
  step: Step;
  put: Put;
  look: WorkflowLook;
  about: StepLook | undefined;
  language: Language | undefined;
  around: Around;
}

function Parts(props: PartsProps) {
  const { step, put, look, about, language, around } = props;
  const text = (key: string) => textOf(step[key]);
  const whole = (key: string) => numeric(text(key));
  const expression = (key: string, label: string, placeholder = "") => (
    <Expression
      label={label}
      value={text(key)}
      part={key}
      around={around}
      placeholder={placeholder}
      onChange={(value) => put({ [key]: value })}
    />
  );
  const number = (key: string, label: string) => (
    <Field label={label}>
      {(id) => (
        <input
          id={id}
          className="field"
          inputMode="numeric"
          value={String(whole(key) ?? "")}
          readOnly={!around.may}
          onChange={(event) => put({ [key]: numeric(event.target.value) })}
        />
      )}
    </Field>
  );
  const choice = (key: string, label: string, offered: readonly string[]) => (
    <Field label={label}>
      {(id) => (
        <>
          <input
            id={id}
            className="field font-mono text-[12.5px]"
            list={`${id}-of`}
            value={text(key)}
            readOnly={!around.may}
            onChange={(event) => put({ [key]: event.target.value })}
          />
          <datalist id={`${id}-of`}>
            {offered.map((one) => (
              <option key={one} value={one} />
            ))}
          </datalist>
          <Wrong problems={around.problems} part={key} />
        </>
      )}
    </Field>
  );
  const map = (key: string, part: string, title: string) => (
    <Filling
      title={title}
      part={part}
      parts={about?.maps[part] ?? []}
      tree={(step[key] ?? {}) as Tree}
      around={around}
      onChange={(tree) => put({ [key]: tree })}
    />
  );
  switch (actionOf(step)) {
    case "call":
      return (
        <>
          {choice("call", t("Calls"), language?.offers.map((one) => one.call) ?? [])}
          <Offer call={text("call")} language={language} />
          {text("call").startsWith("http ") ? (
            <Address {...props} />
          ) : (
            <>
              {map("input", "input", t("Input of {0}", text("call") || "…"))}
              <UndoPart {...props} />
            </>
          )}
          {!about?.writes && (
            <div className="grid grid-cols-2 gap-2">
              {number("tries", t("Tries"))}
              {number("pause", t("Seconds between"))}
            </div>
          )}
          {about && about.faults.length > 0 && (
            <p className="text-xs text-ink2">{rich("May end with {0}", about.faults.join(", "))}</p>
          )}
        </>
      );
    case "set":
      return (
        <Rows
          rows={(step.set ?? {}) as Tree}
          around={around}
          part=""
          words={{ name: t("Name"), value: t("is"), add: t("Set one more") }}
          onChange={(rows) => put({ set: rows })}
        />
      );
    case "when":
      return <Branches {...props} />;
    case "for_each":
      return (
        <>
          {expression("for_each", t("For each item of"))}
          <div className="grid grid-cols-4 gap-2">
            <Named field="item" label={t("Item is called")} {...props} />
            <Named field="index" label={t("Its number")} {...props} />
            {number("at_once", t("At once"))}
            {number("at_most", t("At most"))}
          </div>
          <Collect value={step.collect} part="collect" around={around} onChange={(collect) => put({ collect })} />
          <Handlers {...props} />
        </>
      );
    case "repeat_while":
      return (
        <>
          {expression("repeat_while", t("Again while"))}
          <div className="w-32">{number("at_most", t("Rounds at most"))}</div>
        </>
      );
    case "parallel":
      return <Lanes {...props} />;
    case "attempt":
      return <Handlers {...props} />;
    case "session":
      return choice("session", t("A session to"), []);
    case "reply":
      return map("reply", "reply", t("The answer"));
    case "fail":
      return (
        <>
          {choice("fail", t("Declared fault"), look.faults)}
          {expression("message", t("Message"), t("its description"))}
          {map("detail", "detail", t("Its detail"))}
        </>
      );
    case "note":
      return expression("note", t("Line in the trace"));
    case "wait":
      return expression("wait", t("Seconds, or a duration"));
    default:
      return (
        <>
          {choice("write_file" in step ? "write_file" : "read_file", t("Folder"), [])}
          {expression("path", t("Path in it"))}
          {"write_file" in step && expression("text", t("Text"))}
        </>
      );
  }
}

function Offer({ call, language }: { call: string; language: Language | undefined }) {
  const found = language?.offers.find((one) => one.call === call);
  if (!found?.description) return null;
  return (
    <p className="mb-2 text-xs text-ink2">
      {found.description} {found.writes && t("It writes.")}
    </p>
  );
}

function Named({ field, label, step, put, around }: { field: string; label: string } & PartsProps) {
  return (
    <Field label={label}>
      {(id) => (
        <input
          id={id}
          className="field font-mono text-[12.5px]"
          value={textOf(step[field])}
          readOnly={!around.may}
          onChange={(event) => put({ [field]: event.target.value })}
        />
      )}
    </Field>
  );
}

function Address({ step, put, around }: PartsProps) {
  const body = step.body;
  return (
    <>
      <div className="grid grid-cols-[96px_minmax(0,1fr)_120px] gap-2">
        <Field label={t("Method")}>
          {(id) => (
            <input
              id={id}
              className="field"
              list={`${id}-of`}
              value={textOf(step.method)}
              placeholder={body ? "POST" : "GET"}
              readOnly={!around.may}
              onChange={(event) => put({ method: event.target.value.toUpperCase() })}
            />
          )}
        </Field>
        <Expression
          label={t("Path below the address")}
          value={textOf(step.path)}
          part="path"
          around={around}
          onChange={(path) => put({ path })}
        />
        <Field label={t("Answer is a")}>
          {(id) => (
            <>
              <input
                id={id}
                className="field font-mono text-[12.5px]"
                value={textOf(step.gives)}
                placeholder={t("record")}
                readOnly={!around.may}
                onChange={(event) => put({ gives: event.target.value })}
              />
              <Wrong problems={around.problems} part="gives" />
            </>
          )}
        </Field>
      </div>
      <Collect
        title={t("Body, as JSON")}
        value={body}
        part="body"
        around={around}
        onChange={(next) => put({ body: next })}
      />
    </>
  );
}

function UndoPart({ step, put, around, language, about }: PartsProps) {
  const undo = step.undo as { call?: string; input?: Tree } | undefined;
  if (!undo)
    return around.may && about?.writes ? (
      <button type="button" className="act mb-2 text-xs" onClick={() => put({ undo: { call: "" } })}>
        {t("Say what undoes it")}
      </button>
    ) : null;
  return (
    <div className="mb-3 border-l-2 border-warn pl-3">
      <Field label={t("Undone by")}>
        {(id) => (
          <>
            <input
              id={id}
              className="field font-mono text-[12.5px]"
              list={`${id}-of`}
              value={undo.call ?? ""}
              readOnly={!around.may}
              onChange={(event) =>
                put({ undo: event.target.value ? { ...undo, call: event.target.value } : undefined })
              }
            />
            <datalist id={`${id}-of`}>
              {language?.offers.map((one) => (
                <option key={one.call} value={one.call} />
              ))}
            </datalist>
            <Wrong problems={around.problems} part="undo.call" />
          </>
        )}
      </Field>
      <Filling
        title={t("Input of what undoes it")}
        part="undo, input"
        parts={about?.maps["undo, input"] ?? []}
        tree={undo.input ?? {}}
        around={around}
        onChange={(input) => put({ undo: { ...undo, input } })}
      />
    </div>
  );
}

/** A value that no contract asks for: one expression, or a record of them. */
function Collect({
  title,
  value,
  part,
  around,
  onChange,
}: {
  title?: string;
  value: unknown;
  part: string;
  around: Around;
  onChange: (value: unknown) => void;
}) {
  const words = title ?? t("Each item gives");
  if (typeof value === "string" || value === undefined)
    return (
      <div className="mb-2">
        <Expression
          label={words}
          value={value ?? ""}
          part={part}
          around={around}
          onChange={(next) => onChange(next === "" ? undefined : next)}
        />
        {around.may && (
          <button
            type="button"
            className="act text-xs"
            onClick={() => onChange({ value: typeof value === "string" ? value : "" })}
          >
            {t("Make it a record")}
          </button>
        )}
      </div>
    );
  return (
    <div className="mb-2">
      <p className="lbl">{words}</p>
      <Rows
        rows={value as Tree}
        around={around}
        part={part}
        words={{ name: t("Field"), value: t("is"), add: t("One more field") }}
        onChange={(rows) => onChange(Object.keys(rows).length ? rows : undefined)}
      />
    </div>
  );
}

function Branches({ step, put, around }: PartsProps) {
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
          <button
            type="button"
            className="ibtn"
            aria-label={t("Take {0} out", name)}
            onClick={() => write(all.filter((_, at) => at !== index))}
          >
            ×
          </button>
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

function Lanes({ step, put, around }: PartsProps) {
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
          <button
            type="button"
            className="ibtn"
            aria-label={t("Take {0} out", name)}
            onClick={() => write(lanes.filter((_, at) => at !== index))}
          >
            ×
          </button>
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

function Handlers({ step, put, around, look }: PartsProps) {
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
              <button
                type="button"
                className="ibtn"
                aria-label={t("Take {0} out", name)}
                onClick={() => write(all.filter((_, at) => at !== index))}
              >
                ×
              </button>
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
