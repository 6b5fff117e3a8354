/** One field of a form, by its shape. */
import { Plus } from "lucide-react";
import { useId, useState } from "react";
import type { FormField } from "../api";
import { Select } from "../parts/controls";
import { rich, t } from "../text";
import { asLine, isValues, proposed, useGrammar, words, type Values } from "./grammar";
import { Group } from "./group";
import { Parts, Series } from "./parts";
import { Pairs } from "./pairs";

interface Props {
  field: FormField;
  value: unknown;
  path: string[];
  onChange: (value: unknown) => void;
}

/** The shapes that take the whole width, with parts of their own. */
export const WIDE = new Set(["parts", "group", "groups", "pairs", "lists"]);

export function Field({ field, value, path, onChange }: Props) {
  const id = useId();
  return (
    <div className="mb-2.5 grid grid-cols-[132px_minmax(0,1fr)] gap-x-3" data-path={path.join("/")}>
      <label className="lbl mt-1.5 mb-0! text-right break-words" htmlFor={id}>
        {words(field.name)}
        {field.required && <span className="text-bad"> *</span>}
      </label>
      <div className="min-w-0">
        <Control id={id} field={field} value={value} path={path} onChange={onChange} />
        {field.words && <p className="mt-0.5 text-xs text-ink3">{field.words}</p>}
      </div>
    </div>
  );
}

/** A field with parts of its own, below a heading. */
export function WideField({ field, value, path, onChange }: Props) {
  return (
    <section className="mt-3 mb-3" aria-label={words(field.name)} data-path={path.join("/")}>
      <h3 className="text-sm font-semibold">
        {words(field.name)}
        {field.required && <span className="text-bad"> *</span>}
        {field.words && <span className="ml-2 text-xs font-normal text-ink3">{field.words}</span>}
      </h3>
      <Inside field={field} value={value} path={path} onChange={onChange} />
    </section>
  );
}

function Inside({ field, value, path, onChange }: Props) {
  const grammar = useGrammar();
  if (field.shape === "parts")
    return <Parts field={field} values={isValues(value) ? value : {}} path={path} onChange={onChange} />;
  if (field.shape === "groups")
    return <Series field={field} values={Array.isArray(value) ? value : []} path={path} onChange={onChange} />;
  if (field.shape === "pairs" || field.shape === "lists")
    return <Pairs field={field} values={isValues(value) ? value : {}} onChange={onChange} />;
  if (!isValues(value))
    return (
      <button
        type="button"
        className="act mt-1 inline-flex items-center gap-1"
        aria-disabled={!grammar.may}
        onClick={() => {
          if (grammar.may) onChange({});
        }}
      >
        {rich("{0}Set {1}", <Plus size={14} />, words(field.name))}
      </button>
    );
  return (
    <div className="mt-1.5 border-l-2 border-line pl-3">
      <Group group={field.group} values={value} path={path} onChange={onChange} />
      <button
        type="button"
        className="act block text-xs"
        aria-disabled={!grammar.may}
        onClick={() => {
          if (grammar.may) onChange(undefined);
        }}
      >
        {t("Take {0} out", words(field.name))}
      </button>
    </div>
  );
}

/** The control of a simple shape; also used in the rows of parts. */
export function Control({ id, field, value, onChange, label }: Props & { id?: string; label?: string }) {
  const grammar = useGrammar();
  const list = useId();
  const offered = proposed(field, grammar);
  const named = { ...(id ? { id } : {}), ...(label ? { "aria-label": label } : {}) };
  if (field.shape === "check")
    return (
      <input
        {...named}
        type="checkbox"
        className="tick mt-2"
        disabled={!grammar.may}
        checked={value === undefined ? field.default === true : value === true}
        onChange={(event) => onChange(event.target.checked === field.default ? undefined : event.target.checked)}
      />
    );
  if (field.shape === "choice")
    return (
      <Select
        {...(id ? { id } : {})}
        label={label ?? words(field.name)}
        value={asLine(value) || asLine(field.default)}
        onChange={(next) => {
          if (grammar.may) onChange(next === field.default ? undefined : next);
        }}
        options={field.choices.map((one) => ({ value: one, word: one || t("not said") }))}
      />
    );
  if (field.shape === "lines")
    return (
      <textarea
        {...named}
        className="field h-[120px]! py-1 font-mono text-[12.5px] leading-[18px]"
        spellCheck={false}
        readOnly={!grammar.may}
        value={asLine(value)}
        onChange={(event) => onChange(event.target.value)}
      />
    );
  if (field.shape === "names")
    return <Names {...named} field={field} value={value} offered={offered} onChange={onChange} />;
  if (field.shape === "text" || (value !== undefined && value !== null && isStructure(value)))
    return <p className="mt-1.5 text-ink2">{t("Written in the text beside.")}</p>;
  const number = field.shape === "whole" || field.shape === "number";
  return (
    <>
      <input
        {...named}
        className="field"
        {...(offered.length ? { list } : {})}
        inputMode={number ? "decimal" : "text"}
        readOnly={!grammar.may}
        placeholder={number && field.default !== null ? asLine(field.default) : ""}
        value={asLine(value)}
        onChange={(event) => onChange(number ? asNumber(event.target.value, field.shape) : event.target.value)}
      />
      <Proposals id={list} names={offered} />
    </>
  );
}

const isStructure = (value: unknown) => typeof value === "object";

/** A number where it is one; anything else stays as it was typed, and is told by the service. */
function asNumber(text: string, shape: string): unknown {
  if (shape === "whole") return /^-?\d{1,15}$/.test(text) ? Number(text) : text;
  return /^-?\d{1,12}(\.\d{1,6})?$/.test(text) && String(Number(text)) === text ? Number(text) : text;
}

export function Proposals({ id, names }: { id: string; names: string[] }) {
  if (!names.length) return null;
  return (
    <datalist id={id}>
      {names.map((one) => (
        <option key={one} value={one} />
      ))}
    </datalist>
  );
}

/** A list of names on one line, with commas between them; those that are proposed are added by a press. */
export function Names({
  field,
  value,
  offered,
  onChange,
  ...named
}: {
  field: FormField;
  value: unknown;
  offered: string[];
  onChange: (value: unknown) => void;
  id?: string;
  "aria-label"?: string;
}) {
  const grammar = useGrammar();
  const list = Array.isArray(value) ? value.map(asLine) : value === undefined ? [] : [asLine(value)];
  // While it is typed, the text is kept as it is: a comma at its end is no name yet.
  const [typed, setTyped] = useState<{ text: string; of: string } | null>(null);
  const joined = list.join(", ");
  const text = typed && typed.of === joined ? typed.text : joined;
  const take = (next: string) => {
    const names = next
      .split(",")
      .map((one) => one.trim())
      .filter(Boolean);
    const first = names[0] ?? "";
    const forAll = names.length === 1 && field.choices.includes(first) && !isListChoice(field);
    setTyped({ text: next, of: names.join(", ") });
    onChange(!names.length ? undefined : forAll ? first : names);
  };
  const alone = typeof value === "string" && field.choices.includes(value); // it stands for all of them
  const rest = alone ? [] : offered.filter((one) => !list.includes(one)).slice(0, 12);
  return (
    <>
      <input
        {...named}
        className="field"
        readOnly={!grammar.may}
        value={text}
        onChange={(event) => take(event.target.value)}
      />
      {grammar.may && rest.length > 0 && (
        <span className="mt-0.5 flex flex-wrap gap-x-2 text-xs">
          {rest.map((one) => (
            <button key={one} type="button" className="act" onClick={() => take([...list, one].join(", "))}>
              {rich("{0}{1}", <Plus size={11} className="inline" />, one)}
            </button>
          ))}
        </span>
      )}
    </>
  );
}

/** Of a list whose items are all choices (SOAP versions), one alone is a list, too. */
const isListChoice = (field: FormField) => field.choices.length > 1;

export type { Values };
