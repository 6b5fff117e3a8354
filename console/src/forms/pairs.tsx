/** Texts, or lists of texts, by names. */
import { Plus, Trash2 } from "lucide-react";
import { useId, useState } from "react";
import type { FormField } from "../api";
import { rich, t } from "../text";
import { Names, Proposals } from "./field";
import { asLine, proposed, useGrammar, words, type Values } from "./grammar";

export function Pairs({
  field,
  values,
  onChange,
}: {
  field: FormField;
  values: Values;
  onChange: (values: unknown) => void;
}) {
  const grammar = useGrammar();
  const list = useId();
  const [wanted, setWanted] = useState("");
  const many = field.shape === "lists";
  const keys = proposed({ ...field, choices: [] }, grammar).filter((one) => !(one in values));
  const without = (key: string) => {
    const rest = Object.fromEntries(Object.entries(values).filter(([one]) => one !== key));
    onChange(Object.keys(rest).length ? rest : undefined);
  };
  return (
    <div className="mt-1">
      {Object.entries(values).map(([key, value]) => (
        <div key={key} className="mb-1 flex items-start gap-1.5">
          <span className="mt-1.5 w-40 shrink-0 truncate font-mono text-[12.5px]" title={key}>
            {key}
          </span>
          <span className="min-w-0 grow">
            {many ? (
              <Names
                field={field}
                value={value}
                aria-label={t("{0} of {1}", key, words(field.name))}
                offered={[...field.choices, ...operationsOf(grammar.whole)]}
                onChange={(next) => onChange({ ...values, [key]: next ?? [] })}
              />
            ) : (
              <input
                className="field"
                aria-label={t("{0} of {1}", key, words(field.name))}
                readOnly={!grammar.may}
                value={asLine(value)}
                onChange={(event) => onChange({ ...values, [key]: event.target.value })}
              />
            )}
          </span>
          {grammar.may && (
            <button type="button" className="ibtn" aria-label={t("Remove {0}", key)} onClick={() => without(key)}>
              <Trash2 size={14} />
            </button>
          )}
        </div>
      ))}
      {grammar.may && (
        <form
          className="flex items-center gap-1.5"
          onSubmit={(event) => {
            event.preventDefault();
            if (!wanted || wanted in values) return;
            onChange({ ...values, [wanted]: many ? [] : "" });
            setWanted("");
          }}
        >
          <input
            className="field w-44!"
            aria-label={t("Name of a new one in {0}", words(field.name))}
            placeholder={t("name")}
            {...(keys.length ? { list } : {})}
            value={wanted}
            onChange={(event) => setWanted(event.target.value)}
          />
          <Proposals id={list} names={keys} />
          <button type="submit" className="btn" aria-disabled={!wanted}>
            {rich("{0}Add to {1}", <Plus size={14} />, words(field.name))}
          </button>
        </form>
      )}
    </div>
  );
}

/** What a role may call is proposed from the operations of the same definition. */
function operationsOf(whole: Values): string[] {
  return typeof whole.operations === "object" && whole.operations !== null ? Object.keys(whole.operations) : [];
}
