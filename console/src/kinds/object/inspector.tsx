/** One field of an object: its type, its words, and its rules. */
import { Plus, X } from "lucide-react";
import { useState } from "react";
import { Select } from "../../parts/controls";
import { rich, t } from "../../text";
import { type FieldText } from "./fields";

export function Inspector({
  name,
  field,
  types,
  rule,
  may,
  onChange,
}: {
  name: string;
  field: FieldText;
  types: string[];
  rule: string;
  may: boolean;
  onChange: (part: Partial<FieldText>) => void;
}) {
  const labels = typeof field.label === "string" ? { "": field.label } : (field.label ?? { "": "" });
  const setLabel = (language: string, text: string) => {
    const next: Record<string, string> = { ...labels, [language]: text };
    const told = Object.entries(next).filter(([, words]) => words);
    onChange({
      label:
        told.length === 0
          ? ""
          : told.length === 1 && told[0]?.[0] === ""
            ? told[0][1]
            : Object.fromEntries(told.map(([key, words]) => [key || "en", words])),
    });
  };
  const [language, setLanguage] = useState("");
  return (
    <div className="border-t border-line2 bg-inset px-5 py-3">
      <h2 className="mb-1.5 flex items-baseline gap-3 font-mono text-[13px] font-semibold">
        {name}
        <span className="font-sans text-xs font-normal text-ink2">
          {rule}
          {field.refers_to && t("; the key of {0}", field.refers_to)}
          {field.parent && t("; joined from {0}", field.parent)}
        </span>
      </h2>
      <div className="grid grid-cols-[150px_140px_minmax(0,1fr)_minmax(0,1.4fr)] gap-3">
        <div>
          <span className="lbl">{t("Type")}</span>
          <Select
            label={t("Type")}
            value={field.type}
            onChange={(next) => {
              if (may) onChange({ type: next });
            }}
            options={types.map((one) => ({ value: one, word: one }))}
          />
        </div>
        <div>
          <label className="lbl" htmlFor="f-default">
            {t("Default")}
          </label>
          <input
            id="f-default"
            className="field"
            readOnly={!may}
            value={field.default ?? ""}
            onChange={(event) => onChange({ default: event.target.value })}
          />
        </div>
        <div>
          {Object.entries(labels).map(([key, words]) => (
            <div key={key} className="mb-1">
              <label className="lbl" htmlFor={`f-label-${key}`}>
                {rich("Label{0}", key && `, ${key}`)}
              </label>
              <span className="flex items-center">
                <input
                  id={`f-label-${key}`}
                  className="field"
                  readOnly={!may}
                  value={words}
                  onChange={(event) => setLabel(key, event.target.value)}
                />
                {key !== "" && Object.keys(labels).length > 1 && (
                  <button
                    type="button"
                    className="ibtn"
                    aria-label={t("Remove the label in {0}", key)}
                    title={t("Remove the label in {0}", key)}
                    onClick={() => setLabel(key, "")}
                  >
                    <X size={14} />
                  </button>
                )}
              </span>
            </div>
          ))}
          <span className="flex items-center gap-1">
            <input
              className="field w-16!"
              aria-label={t("Another language")}
              placeholder={t("de")}
              value={language}
              onChange={(event) => setLanguage(event.target.value)}
            />
            <button
              type="button"
              className="act inline-flex items-center gap-1 text-xs"
              aria-disabled={!may || !/^[a-z]{2,3}$/.test(language)}
              onClick={() => {
                if (may && /^[a-z]{2,3}$/.test(language)) {
                  setLabel(language, labels[language] ?? (labels[""] || name));
                  setLanguage("");
                }
              }}
            >
              {rich("{0}language", <Plus size={13} />)}
            </button>
          </span>
        </div>
        <div>
          <label className="lbl" htmlFor="f-description">
            {t("Description")}
          </label>
          <textarea
            id="f-description"
            className="field h-[58px]! py-1"
            readOnly={!may}
            value={field.description ?? ""}
            onChange={(event) => onChange({ description: event.target.value })}
          />
        </div>
      </div>
    </div>
  );
}
