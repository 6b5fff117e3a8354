/** Fields for expressions and other texts of a step, with what is wrong in them and what they give. */
import { useEffect, useId, useState, type ReactNode } from "react";
import { ask, type FoundProblem, type KnownName, type Tried } from "../../api";
import { t } from "../../text";
import { lines, treeOf } from "./tree";

/** What a field needs to know of the workflow around it. */
export interface Around {
  workflow: string;
  definition: { [key: string]: unknown };
  step: string;
  call: string;
  known: readonly KnownName[];
  problems: readonly FoundProblem[];
  may: boolean;
}

export function Field({ label, children }: { label: string; children: (id: string) => ReactNode }) {
  const id = useId();
  return (
    <div className="mb-2">
      <label className="lbl" htmlFor={id}>
        {label}
      </label>
      {children(id)}
    </div>
  );
}

/** Takes a row with a name out, for who may. */
export function TakeOut({ name, around, onClick }: { name: string; around: Around; onClick: () => void }) {
  if (!around.may) return <span />;
  return (
    <button type="button" className="ibtn" aria-label={t("Take {0} out", name)} onClick={onClick}>
      ×
    </button>
  );
}

/** What is wrong with a part of the step. */
export function Wrong({ problems, part }: { problems: readonly FoundProblem[]; part: string }) {
  const mine = problems.filter((one) => one.part === part || one.part.startsWith(`${part}.`));
  if (!mine.length) return null;
  return (
    <ul className="mt-0.5">
      {mine.map((one, index) => (
        <li key={index} className="text-xs text-bad">
          {one.part !== part && <b className="font-semibold">{one.part.slice(part.length + 1)}: </b>}
          {one.message} {one.expected && <span className="text-ink2">{t("Expected {0}.", one.expected)} </span>}
          {one.found && <span className="text-ink2">{t("Found {0}.", one.found)} </span>}
          {one.mend && <span className="text-ink2">{one.mend}</span>}
        </li>
      ))}
    </ul>
  );
}

/** An expression: its text, what is wrong in it, and while one types what it gives for the sample. */
export function Expression({
  label,
  value,
  onChange,
  around,
  part,
  fits = [],
  bare = false,
  placeholder = "",
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  around: Around;
  part: string;
  fits?: readonly string[];
  bare?: boolean;
  placeholder?: string;
}) {
  const id = useId();
  const [focused, setFocused] = useState(false);
  const long = value.includes("\n") || value.length > 64;
  const known = [...new Set([...fits, ...around.known.map((one) => one.path)])];
  const shared = {
    id,
    value,
    readOnly: !around.may,
    placeholder,
    spellCheck: false,
    onFocus: () => setFocused(true),
    onBlur: () => afterPointer(() => setFocused(false)),
  };
  return (
    <div className={bare ? "" : "mb-2"}>
      <label className={bare ? "sr-only" : "lbl"} htmlFor={id}>
        {label}
      </label>
      {long ? (
        <textarea
          {...shared}
          rows={Math.min(8, Math.max(2, value.split("\n").length, Math.ceil(value.length / 60)))}
          onChange={(event) => onChange(event.target.value)}
          className="field h-auto! py-1 font-mono text-[12.5px]"
        />
      ) : (
        <>
          <input
            {...shared}
            list={`${id}-known`}
            onChange={(event) => onChange(event.target.value)}
            className="field font-mono text-[12.5px]"
            autoComplete="off"
          />
          {focused && (
            <datalist id={`${id}-known`}>
              {known.slice(0, 200).map((one) => (
                <option key={one} value={one} />
              ))}
            </datalist>
          )}
        </>
      )}
      {focused && value && <Gives expression={value} around={around} />}
      <Wrong problems={around.problems} part={part} />
    </div>
  );
}

let pressed = false;
for (const event of ["pointerdown", "pointerup", "pointercancel"])
  window.addEventListener(event, () => (pressed = event === "pointerdown"), { capture: true });

/** Now, or once the pointer that is down is up: what moves between the two makes a click miss what it was meant for. */
function afterPointer(act: () => void) {
  if (!pressed) return act();
  const up = new AbortController();
  for (const event of ["pointerup", "pointercancel"])
    window.addEventListener(event, () => (up.abort(), setTimeout(act)), { capture: true, signal: up.signal });
}

/** What an expression gives for the values of the sample. */
function Gives({ expression, around }: { expression: string; around: Around }) {
  const [tried, setTried] = useState<Tried | null>(null);
  const { workflow, definition, step, call, may } = around;
  useEffect(() => {
    if (!may || expression.startsWith("=")) return;
    let gone = false;
    const timer = setTimeout(() => {
      ask<Tried>("POST", `/workflows/${encodeURIComponent(workflow)}/try`, { definition, step, expression, call }).then(
        (found) => !gone && setTried(found),
        () => !gone && setTried(null),
      );
    }, 350);
    return () => {
      gone = true;
      clearTimeout(timer);
    };
  }, [expression, workflow, definition, step, call, may]);
  if (!tried || tried.problems.length) return null;
  return (
    <p className="mt-0.5 truncate text-xs text-ink2" role="status">
      {t("gives")} <span className="font-mono">{short(tried.value)}</span>{" "}
      <span className="text-ink3">{tried.type}</span>
    </p>
  );
}

export function short(value: unknown): string {
  const text = typeof value === "string" ? value : JSON.stringify(value);
  return text === undefined ? "" : text.length > 80 ? `${text.slice(0, 80)}…` : text;
}

/** Rows of names and expressions, with one more at the end. */
export function Rows({
  rows,
  onChange,
  around,
  part,
  words,
}: {
  rows: Record<string, unknown>;
  onChange: (rows: Record<string, unknown>) => void;
  around: Around;
  part: string;
  words: { name: string; value: string; add: string };
}) {
  const all = lines(rows);
  const put = (index: number, name: string, value: string) =>
    onChange(treeOf(all.map((one, at) => (at === index ? ([name, value] as const) : one))));
  return (
    <div>
      {all.map(([name, value], index) => (
        <div key={index} className="mb-1.5 grid grid-cols-[132px_minmax(0,1fr)_24px] items-start gap-1.5">
          <input
            className="field font-mono text-[12.5px]"
            aria-label={words.name}
            value={name}
            readOnly={!around.may}
            onChange={(event) => put(index, event.target.value, value)}
          />
          <Expression
            bare
            label={`${name} ${words.value}`}
            value={value}
            around={around}
            part={part ? `${part}.${name}` : name}
            onChange={(next) => put(index, name, next)}
          />
          <TakeOut name={name} around={around} onClick={() => onChange(treeOf(all.filter((_, at) => at !== index)))} />
        </div>
      ))}
      {around.may && (
        <button
          type="button"
          className="act text-xs"
          onClick={() => {
            let number = all.length + 1;
            while (`value${number}` in rows) number++;
            onChange(treeOf([...all, [`value${number}`, ""]]));
          }}
        >
          {words.add}
        </button>
      )}
    </div>
  );
}

/** Something that is so or not. */
export function Switch({
  on,
  may,
  word,
  onChange,
}: {
  on: boolean;
  may: boolean;
  word: string;
  onChange: (on: boolean) => void;
}) {
  return (
    <label className="flex items-center gap-2">
      <input type="checkbox" checked={on} disabled={!may} onChange={(event) => onChange(event.target.checked)} />
      {word}
    </label>
  );
}
