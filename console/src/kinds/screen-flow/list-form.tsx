/** The form of a list: its pages, and its columns, which are added, moved and changed by hand. */
import { ArrowUp, Plus, Trash2 } from "lucide-react";
import { Select } from "../../parts/controls";
import { Labelled } from "../../parts/dialog";
import { TYPES } from "./marks";
import type { Column, List } from "./types";
import { rich, t } from "../../text";

export function ListForm({
  list,
  keys,
  onChange,
  onRemove,
}: {
  list: List;
  keys: string[];
  onChange: (next: List) => void;
  onRemove: () => void;
}) {
  const mark = list.goes_on ?? list.ends;
  const way = list.goes_on ? "goes_on" : list.ends ? "ends" : list.until_same ? "same" : "one";
  const setWay = (next: string) =>
    onChange({
      ...list,
      press: next === "one" ? "" : list.press || (keys.includes("PF8") ? "PF8" : "PageDown"),
      goes_on: next === "goes_on" ? (mark ?? { text: "More" }) : null,
      ends: next === "ends" ? (mark ?? { text: "END" }) : null,
      until_same: next === "same",
    });
  return (
    <section aria-label={t("The selected list")} className="px-4 py-2">
      <p className="mb-1.5 flex items-center gap-2 text-xs text-ink2">
        {rich(
          "{0}list, rows {1} to {2}, {3} columns{4}",
          <b className="font-mono text-[12.5px] text-ink">{list.name}</b>,
          list.first_row,
          list.last_row,
          list.columns.length,
          <button type="button" className="ibtn ml-auto" aria-label={t("Remove {0}", list.name)} onClick={onRemove}>
            <Trash2 size={16} strokeWidth={1.75} />
          </button>,
        )}
      </p>
      <div className="grid grid-cols-[1fr_1.2fr_90px_1fr_80px_80px] gap-x-3">
        <Labelled label={t("Name")}>
          {(id) => (
            <input
              id={id}
              className="field font-mono"
              value={list.name}
              onChange={(event) => onChange({ ...list, name: event.target.value })}
            />
          )}
        </Labelled>
        <Labelled label={t("Pages")}>
          {(id) => (
            <Select
              id={id}
              label={t("Pages")}
              value={way}
              onChange={setWay}
              options={[
                { value: "goes_on", word: t("while a text shows") },
                { value: "ends", word: t("until a text shows") },
                { value: "same", word: t("until the page repeats") },
                { value: "one", word: t("one page only") },
              ]}
            />
          )}
        </Labelled>
        <Labelled label={t("Page key")}>
          {(id) => (
            <Select
              id={id}
              label={t("Page key")}
              value={list.press}
              onChange={(press) => onChange({ ...list, press })}
              options={[{ value: "", word: t("none") }, ...keys.map((one) => ({ value: one, word: one }))]}
            />
          )}
        </Labelled>
        <Labelled label={t("Text")}>
          {(id) => (
            <input
              id={id}
              className="field font-mono"
              disabled={!mark}
              value={mark?.text ?? ""}
              onChange={(event) =>
                onChange(
                  list.goes_on
                    ? { ...list, goes_on: { ...list.goes_on, text: event.target.value } }
                    : { ...list, ends: { ...list.ends, text: event.target.value } },
                )
              }
            />
          )}
        </Labelled>
        <Labelled label={t("Most rows")}>
          {(id) => (
            <input
              id={id}
              className="field"
              inputMode="numeric"
              value={list.most}
              onChange={(event) => onChange({ ...list, most: Math.max(1, Number(event.target.value) || 1) })}
            />
          )}
        </Labelled>
        <Labelled label={t("Lines a row")}>
          {(id) => (
            <input
              id={id}
              className="field"
              inputMode="numeric"
              value={list.lines}
              onChange={(event) =>
                onChange({ ...list, lines: Math.min(10, Math.max(1, Number(event.target.value) || 1)) })
              }
            />
          )}
        </Labelled>
      </div>
      <div className="max-h-40 overflow-auto">
        {list.columns.map((one, index) => (
          <ColumnRow
            key={index}
            column={one}
            number={index + 1}
            lines={list.lines}
            onChange={(next) =>
              onChange({ ...list, columns: list.columns.map((two, at) => (at === index ? next : two)) })
            }
            onUp={() => {
              const columns = [...list.columns];
              const above = columns[index - 1];
              if (!above) return;
              columns[index - 1] = one;
              columns[index] = above;
              onChange({ ...list, columns });
            }}
            onRemove={() => onChange({ ...list, columns: list.columns.filter((_, at) => at !== index) })}
          />
        ))}
      </div>
      <button
        type="button"
        className="act inline-flex items-center gap-1"
        onClick={() => onChange({ ...list, columns: [...list.columns, added(list)] })}
      >
        {rich("{0}Add a column", <Plus size={14} />)}
      </button>
    </section>
  );
}

/** A column behind the last one. */
function added(list: List): Column {
  const last = list.columns[list.columns.length - 1];
  let number = list.columns.length + 1;
  while (list.columns.some((one) => one.name === `column${number}`)) number += 1;
  return {
    name: `column${number}`,
    column: last ? last.column + last.length + 1 : 1,
    length: 8,
    line: last?.line ?? 1,
    type: "string",
    dates: "",
    decimal: "point",
    fraction: null,
  };
}

function ColumnRow({
  column,
  number,
  lines,
  onChange,
  onUp,
  onRemove,
}: {
  column: Column;
  number: number;
  lines: number;
  onChange: (next: Column) => void;
  onUp: () => void;
  onRemove: () => void;
}) {
  const whole = (name: "column" | "length" | "line", label: string, shown = true) => (
    <input
      aria-label={label}
      title={label}
      className="field"
      inputMode="numeric"
      disabled={!shown}
      value={column[name]}
      onChange={(event) => onChange({ ...column, [name]: Number(event.target.value) || 1 })}
    />
  );
  return (
    <div className="mb-1 grid grid-cols-[1.2fr_58px_58px_46px_1fr_1fr_52px] items-center gap-x-2">
      <input
        aria-label={t("Name of column {0}", number)}
        className="field font-mono"
        value={column.name}
        onChange={(event) => onChange({ ...column, name: event.target.value })}
      />
      {whole("column", t("Begin of column {0}", number))}
      {whole("length", t("Length of column {0}", number))}
      {whole("line", t("Line of column {0}", number), lines > 1)}
      <Select
        label={t("Type of column {0}", number)}
        value={column.type}
        onChange={(type) => onChange({ ...column, type, fraction: type === "decimal" ? (column.fraction ?? 2) : null })}
        options={TYPES.map((two) => ({ value: two, word: two }))}
      />
      {column.type === "decimal" ? (
        <Select
          label={t("Decimal sign of column {0}", number)}
          value={column.decimal}
          onChange={(decimal) => onChange({ ...column, decimal })}
          options={[
            { value: "point", word: t("point, 1,234.50") },
            { value: "comma", word: t("comma, 1.234,50") },
          ]}
        />
      ) : (
        <input
          aria-label={t("Look of column {0}", number)}
          className="field font-mono"
          disabled={!column.type.startsWith("date")}
          value={column.type.startsWith("date") ? column.dates : ""}
          onChange={(event) => onChange({ ...column, dates: event.target.value })}
        />
      )}
      <span className="flex">
        <button
          type="button"
          className="ibtn"
          disabled={number === 1}
          aria-label={t("Move the column {0} up", column.name)}
          onClick={onUp}
        >
          <ArrowUp size={14} />
        </button>
        <button type="button" className="ibtn" aria-label={t("Remove the column {0}", column.name)} onClick={onRemove}>
          <Trash2 size={15} strokeWidth={1.75} />
        </button>
      </span>
    </div>
  );
}
