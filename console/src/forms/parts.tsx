/** Parts of a definition: by name, in an order, each a row that opens; and series of parts without names. */
import { ArrowDown, ArrowUp, ChevronDown, ChevronRight, Plus, Trash2 } from "lucide-react";
import { useId, useState } from "react";
import type { FormField } from "../api";
import { rich, t } from "../text";
import { Control, Proposals, WIDE } from "./field";
import { free, isValues, moved, proposed, renamed, useGrammar, withValue, words, type Values } from "./grammar";
import { Group } from "./group";

/** In the row of a part stand its name and the fields that it must have, at most so many, and whether it is required. */
const IN_ROW = 2;

interface Props {
  field: FormField;
  values: Values;
  path: string[];
  onChange: (values: unknown) => void;
}

export function Parts({ field, values, path, onChange }: Props) {
  const grammar = useGrammar();
  const [open, setOpen] = useState<number | null>(null);
  const [wanted, setWanted] = useState("");
  const list = useId();
  const offered = proposed(field, grammar).filter((one) => !(one in values));
  const entries = Object.entries(values);
  const add = () => {
    const name = free(values, wanted || singular(field.name));
    onChange({ ...values, [name]: {} });
    setOpen(entries.length);
    setWanted("");
  };
  return (
    <div className="mt-1">
      {entries.length > 0 && (
        <ul className="mb-1.5 border-t border-line">
          {entries.map(([name, value], index) => (
            <PartRow
              key={index}
              field={field}
              name={name}
              index={index}
              last={index === entries.length - 1}
              open={open === index}
              onOpen={() => setOpen(open === index ? null : index)}
              values={isValues(value) ? value : {}}
              path={[...path, name]}
              onName={(next) => {
                if (!(next in values)) onChange(renamed(values, name, next));
              }}
              onChange={(next) => onChange({ ...values, [name]: next })}
              onMove={(by) => {
                onChange(moved(values, index, by));
                setOpen(open === index ? index + by : null);
              }}
              onRemove={() => {
                const rest = Object.fromEntries(entries.filter((_, at) => at !== index));
                onChange(entries.length > 1 || field.required ? rest : undefined);
                setOpen(null);
              }}
            />
          ))}
        </ul>
      )}
      {grammar.may && (
        <form
          className="flex items-center gap-1.5"
          onSubmit={(event) => {
            event.preventDefault();
            add();
          }}
        >
          <input
            className="field w-44!"
            aria-label={t("Name of a new one in {0}", words(field.name))}
            placeholder={t("name")}
            {...(offered.length ? { list } : {})}
            value={wanted}
            onChange={(event) => setWanted(event.target.value)}
          />
          <Proposals id={list} names={offered} />
          <button type="submit" className="btn">
            {rich("{0}Add to {1}", <Plus size={14} />, words(field.name))}
          </button>
        </form>
      )}
    </div>
  );
}

function PartRow({
  field,
  name,
  index,
  last,
  open,
  onOpen,
  values,
  path,
  onName,
  onChange,
  onMove,
  onRemove,
}: {
  field: FormField;
  name: string;
  index: number;
  last: boolean;
  open: boolean;
  onOpen: () => void;
  values: Values;
  path: string[];
  onName: (name: string) => void;
  onChange: (values: Values) => void;
  onMove: (by: number) => void;
  onRemove: () => void;
}) {
  const grammar = useGrammar();
  const fields = grammar.groups[field.group] ?? [];
  const engine = grammar.engines[name] ?? "";
  const needed = fields.filter((one) => one.required && !WIDE.has(one.shape)).slice(0, IN_ROW);
  const optional = fields.find((one) => one.name === "required" && one.shape === "check");
  const told = summary(values, [...needed.map((one) => one.name), "required"]);
  return (
    <li className="border-b border-line py-1" data-path={path.join("/")}>
      <div className="flex items-center gap-1.5">
        <button type="button" className="ibtn" aria-expanded={open} aria-label={t("All of {0}", name)} onClick={onOpen}>
          {open ? <ChevronDown size={15} /> : <ChevronRight size={15} />}
        </button>
        <NameField name={name} onName={onName} label={t("Name of {0}", name)} />
        {needed.map((one) => (
          <span key={one.name} className="w-34 shrink-0" data-path={[...path, one.name].join("/")}>
            <Control
              field={one}
              value={values[one.name]}
              path={[...path, one.name]}
              label={t("{0} of {1}", words(one.name), name)}
              onChange={(value) => onChange(withValue(values, one.name, value))}
            />
          </span>
        ))}
        {optional && (
          <label className="flex shrink-0 items-center gap-1 text-xs text-ink2">
            <input
              type="checkbox"
              className="tick"
              disabled={!grammar.may}
              checked={values.required === undefined ? optional.default === true : values.required === true}
              onChange={(event) =>
                onChange(
                  withValue(
                    values,
                    "required",
                    event.target.checked === optional.default ? undefined : event.target.checked,
                  ),
                )
              }
            />
            {t("required")}
          </label>
        )}
        <span className="min-w-0 grow truncate text-xs text-ink3" title={told}>
          {optional ? "" : told}
        </span>
        {grammar.may && (
          <span className="flex shrink-0">
            <button
              type="button"
              className="ibtn"
              disabled={index === 0}
              aria-label={t("Move {0} up", name)}
              onClick={() => onMove(-1)}
            >
              <ArrowUp size={14} />
            </button>
            <button
              type="button"
              className="ibtn"
              disabled={last}
              aria-label={t("Move {0} down", name)}
              onClick={() => onMove(1)}
            >
              <ArrowDown size={14} />
            </button>
            <button type="button" className="ibtn" aria-label={t("Remove {0}", name)} onClick={onRemove}>
              <Trash2 size={14} />
            </button>
          </span>
        )}
      </div>
      {open && (
        <div className="mt-2 mb-1 ml-3 border-l-2 border-line pl-3">
          <Group
            group={field.group}
            values={values}
            path={path}
            onChange={onChange}
            leave={[...needed.map((one) => one.name), ...(optional ? ["required"] : [])]}
            engine={engine}
            first={FIRST}
          />
        </div>
      )}
    </li>
  );
}

/** Where a backend is comes first of all that a binding may say. */
const FIRST = ["address", "file", "database", "credential", "description"];

/** What a row says of the fields that it does not show. */
function summary(values: Values, shown: string[]): string {
  return Object.entries(values)
    .filter(([key]) => !shown.includes(key))
    .map(([key, value]) =>
      value === true
        ? words(key)
        : typeof value === "object" && value !== null
          ? words(key)
          : `${words(key)} ${String(value)}`,
    )
    .join(", ");
}

function singular(name: string): string {
  return name.endsWith("ies") ? `${name.slice(0, -3)}y` : name.endsWith("s") ? name.slice(0, -1) : name;
}

/** A name that takes effect when its field is left, so that half of a name never hides another part. */
function NameField({ name, label, onName }: { name: string; label: string; onName: (name: string) => void }) {
  const grammar = useGrammar();
  const [typed, setTyped] = useState<string | null>(null);
  const done = () => {
    if (typed !== null && typed !== name && typed) onName(typed);
    setTyped(null);
  };
  return (
    <input
      className="field w-36! shrink-0 font-mono text-[12.5px]"
      aria-label={label}
      readOnly={!grammar.may}
      value={typed ?? name}
      onChange={(event) => setTyped(event.target.value)}
      onBlur={done}
      onKeyDown={(event) => {
        if (event.key !== "Enter") return;
        event.preventDefault();
        done();
      }}
    />
  );
}

/** Groups one after the other, without names. */
export function Series({
  field,
  values,
  path,
  onChange,
}: {
  field: FormField;
  values: unknown[];
  path: string[];
  onChange: (values: unknown) => void;
}) {
  const grammar = useGrammar();
  return (
    <div className="mt-1">
      {values.map((one, index) => (
        <div key={index} className="mb-2 border-l-2 border-line pl-3" data-path={[...path, String(index)].join("/")}>
          <Group
            group={field.group}
            values={isValues(one) ? one : {}}
            path={[...path, String(index)]}
            onChange={(next) => onChange(values.map((other, at) => (at === index ? next : other)))}
          />
          {grammar.may && (
            <button
              type="button"
              className="act text-xs"
              onClick={() => onChange(values.filter((_, at) => at !== index))}
            >
              {t("Remove number {0}", index + 1)}
            </button>
          )}
        </div>
      ))}
      {grammar.may && (
        <button type="button" className="btn" onClick={() => onChange([...values, {}])}>
          {rich("{0}Add to {1}", <Plus size={14} />, words(field.name))}
        </button>
      )}
    </div>
  );
}
