/** What a loop or a step gives on, where no contract says what it is to be. */
import { t } from "../../text";
import { Expression, Rows, type Around } from "./fields";

type Tree = Record<string, unknown>;

/** A value that no contract asks for: one expression, or a record of them. */
export function Collect({
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
