/** The fields of a group: those that are required or filled in, and the others behind a press. */
import { ChevronDown, ChevronRight } from "lucide-react";
import { useState } from "react";
import type { FormField } from "../api";
import { rich, t } from "../text";
import { Field, WIDE, WideField } from "./field";
import { means, useGrammar, withValue, type Values } from "./grammar";

export function Group({
  group,
  values,
  path,
  onChange,
  leave = [],
  first = [],
  engine = "",
}: {
  group: string;
  values: Values;
  path: string[];
  onChange: (values: Values) => void;
  /** Fields that are drawn elsewhere. */
  leave?: string[];
  /** Fields that are shown whether filled in or not. */
  first?: string[];
  engine?: string;
}) {
  const grammar = useGrammar();
  // The fields behind the press, as they were when it was pressed: one that is filled in there stays where it is.
  const [behind, setBehind] = useState<string[] | null>(null);
  const more = behind !== null;
  const fields = (grammar.groups[group] ?? []).filter((one) => !leave.includes(one.name) && means(one, values, engine));
  const shown = (one: FormField) =>
    !behind?.includes(one.name) && (one.required || one.name in values || first.includes(one.name));
  const rest = fields.filter((one) => !shown(one));
  const draw = (one: FormField) => {
    const props = {
      field: one,
      value: values[one.name],
      path: [...path, one.name],
      onChange: (value: unknown) => onChange(withValue(values, one.name, value)),
    };
    return WIDE.has(one.shape) ? <WideField key={one.name} {...props} /> : <Field key={one.name} {...props} />;
  };
  const narrow = (one: FormField) => !WIDE.has(one.shape);
  return (
    <>
      {fields.filter((one) => shown(one) && narrow(one)).map(draw)}
      {fields.filter((one) => shown(one) && !narrow(one)).map(draw)}
      {rest.length > 0 && (
        <button
          type="button"
          className="act mb-2 flex items-start gap-1 text-left"
          aria-expanded={more}
          onClick={() => setBehind(more ? null : rest.map((one) => one.name))}
        >
          {rich(
            "{0}{1}",
            more ? (
              <ChevronDown size={14} className="mt-0.5 shrink-0" />
            ) : (
              <ChevronRight size={14} className="mt-0.5 shrink-0" />
            ),
            more ? t("Less") : t("More: {0}", named(rest)),
          )}
        </button>
      )}
      {more && rest.map(draw)}
    </>
  );
}

const MOST_NAMED = 6;

function named(fields: FormField[]): string {
  const names = fields.slice(0, MOST_NAMED).map((one) => one.name.replaceAll("_", " "));
  const more = fields.length - names.length;
  return more > 0 ? t("{0} and {1} more", names.join(", "), more) : names.join(", ");
}
