/** One step: what it does, what it takes, what is wrong with it, what may be spoken of in it. */
import { ArrowDown, ArrowUp, Trash2 } from "lucide-react";
import { useState } from "react";
import type { Language, StepLook, WorkflowLook } from "../../api";
import { t } from "../../text";
import { kindOf } from "../index";
import { Expression, Field, short, Wrong, type Around } from "./fields";
import { Parts } from "./parts";
import { numeric, type Put } from "./putting";
import { ActionIcon, WORDS } from "./icons";
import { actionOf, blocks, textOf, type Node, type Spot, type Step } from "./tree";

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
                aria-label={t("Insert in {0}", word)}
                className="act ml-auto text-xs whitespace-nowrap"
                onClick={() => onInsert({ path: node.path, key: one.key }, names.at(-1) ?? null)}
              >
                {t("Insert")}
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
