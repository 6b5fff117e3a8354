/** What was pointed at: boxes on the screen, the list beside it, and the form of the one that is selected. */
import { Trash2 } from "lucide-react";
import { Select } from "../../parts/controls";
import { Labelled } from "../../parts/dialog";
import { Box, tagSide } from "./host";
import { textIn } from "./recorder";
import type { Area, HostScreen, List, ListBox, Look, Place, PlaceBox } from "./types";
import { rich, t } from "../../text";

export const TYPES = ["string", "int", "decimal", "date", "dateTime", "time", "boolean"];
const TAG: Record<Place["kind"], string> = { input: "bg-[#7FD3DC]", fixed: "bg-[#9CB9F2]", output: "bg-[#F3F7F4]" };

export type Selected =
  | { kind: "place"; place: Place }
  | { kind: "list"; list: List }
  | { kind: "area"; area: Area; isInput: boolean }
  | undefined;

const areaOf = (one: PlaceBox): Area => ({
  row: one.row,
  column: one.column,
  lastRow: one.row,
  lastColumn: one.column + (one.length ?? 12) - 1,
});

export function MarkLayer({
  screen,
  places,
  lists,
  selected,
}: {
  screen: HostScreen;
  places: PlaceBox[];
  lists: ListBox[];
  selected: Selected;
}) {
  return (
    <>
      {lists.map((one) => {
        const first = Math.min(...one.columns.map((two) => two.column)),
          last = Math.max(...one.columns.map((two) => two.column + two.length - 1));
        return (
          <div key={one.name} className="contents">
            <Box
              area={{ row: one.first_row, column: first - 1, lastRow: one.last_row, lastColumn: last + 1 }}
              className={selected?.kind === "list" && selected.list === one ? "tmark-on" : "tmark-list"}
            />
            {one.columns.map((two) => {
              const whole = {
                row: one.first_row,
                column: two.column,
                lastRow: one.last_row,
                lastColumn: two.column + two.length - 1,
              };
              const right = two.type === "decimal" || two.type === "int" ? "right-0 left-auto!" : "";
              return (
                <div key={two.name} className="contents">
                  <Box area={{ ...whole, lastRow: one.first_row }} className="tmark-output" />
                  <Box area={whole} className="">
                    <span className={`ttag bg-[#F3F7F4] ${right} ${tagSide(screen, whole, two.name.length)}`}>
                      {two.name}
                    </span>
                  </Box>
                </div>
              );
            })}
            {(one.goes_on ?? one.ends)?.row && (
              <Box
                area={{
                  row: (one.goes_on ?? one.ends)?.row ?? 1,
                  column: (one.goes_on ?? one.ends)?.column ?? 1,
                  lastRow: (one.goes_on ?? one.ends)?.row ?? 1,
                  lastColumn:
                    ((one.goes_on ?? one.ends)?.column ?? 1) + ((one.goes_on ?? one.ends)?.text?.length ?? 1) - 1,
                }}
                className="tmark-more"
              >
                <span className="ttag right-0 left-auto! bg-[#EBCB72]">
                  {one.goes_on ? t("goes on") : t("the end")}
                </span>
              </Box>
            )}
          </div>
        );
      })}
      {places.map((one) => (
        <Box
          key={`${one.kind} ${one.name}`}
          area={areaOf(one)}
          className={selected?.kind === "place" && selected.place === one ? "tmark-on" : `tmark-${one.kind}`}
        >
          <span className={`ttag ${TAG[one.kind]} ${tagSide(screen, areaOf(one), one.name.length)}`}>
            {one.kind === "fixed" ? t("always {0}", one.name) : one.name}
          </span>
        </Box>
      ))}
      {selected?.kind === "area" && <Box area={selected.area} className="tmark-on" />}
    </>
  );
}

function LookFields({ look, onChange }: { look: Look; onChange: (next: Look) => void }) {
  return (
    <>
      <Labelled label={t("Type")}>
        {(id) => (
          <Select
            id={id}
            label={t("Type")}
            value={look.type}
            onChange={(type) => onChange({ ...look, type, fraction: type === "decimal" ? (look.fraction ?? 2) : null })}
            options={TYPES.map((one) => ({ value: one, word: one }))}
          />
        )}
      </Labelled>
      {(look.type.startsWith("date") || look.type === "time") && (
        <Labelled label={t("Look of a date")}>
          {(id) => (
            <input
              id={id}
              className="field font-mono"
              value={look.dates}
              placeholder={t("DD/MM/YY")}
              onChange={(event) => onChange({ ...look, dates: event.target.value })}
            />
          )}
        </Labelled>
      )}
      {look.type === "decimal" && (
        <Labelled label={t("Decimal sign")}>
          {(id) => (
            <Select
              id={id}
              label={t("Decimal sign")}
              value={look.decimal}
              onChange={(decimal) => onChange({ ...look, decimal })}
              options={[
                { value: "point", word: t("point, 1,234.50") },
                { value: "comma", word: t("comma, 1.234,50") },
              ]}
            />
          )}
        </Labelled>
      )}
    </>
  );
}

export function PlaceForm({
  place,
  screen,
  onChange,
  onRemove,
}: {
  place: Place;
  screen: HostScreen;
  onChange: (next: Place) => void;
  onRemove: () => void;
}) {
  return (
    <section aria-label={t("The selected place")} className="px-4 py-2">
      <p className="mb-1.5 flex items-center gap-2 text-xs text-ink2">
        {rich(
          "{0}{1}, row {2}, column {3}{4}{5}",
          <b className="font-mono text-[12.5px] text-ink">{place.name}</b>,
          place.kind,
          place.row,
          place.column,
          <span className="ml-auto">
            {rich(
              "reads {0}",
              <b className="font-mono text-ink">
                {textIn(screen, place.row, place.column, place.length) || t("blank")}
              </b>,
            )}
          </span>,
          <button type="button" className="ibtn" aria-label={t("Remove {0}", place.name)} onClick={onRemove}>
            <Trash2 size={16} strokeWidth={1.75} />
          </button>,
        )}
      </p>
      <div className="grid grid-cols-[1.2fr_72px_1fr_1fr_1.4fr] gap-x-3">
        <Labelled label={t("Name")}>
          {(id) => (
            <input
              id={id}
              className="field font-mono"
              value={place.name}
              onChange={(event) => onChange({ ...place, name: event.target.value })}
            />
          )}
        </Labelled>
        <Labelled label={t("Length")}>
          {(id) => (
            <input
              id={id}
              className="field"
              inputMode="numeric"
              value={place.length ?? ""}
              onChange={(event) => onChange({ ...place, length: Number(event.target.value) || null })}
            />
          )}
        </Labelled>
        {place.kind !== "fixed" && <LookFields look={place} onChange={(look) => onChange({ ...place, ...look })} />}
        {place.kind === "output" && (
          <Labelled label={t("Blank means")}>
            {(id) => (
              <Select
                id={id}
                label={t("Blank means")}
                value={place.required ? "wrong" : "none"}
                onChange={(next) => onChange({ ...place, required: next === "wrong" })}
                options={[
                  { value: "wrong", word: t("a wrong screen") },
                  { value: "none", word: t("no value") },
                ]}
              />
            )}
          </Labelled>
        )}
        <Labelled label={t("Documentation")}>
          {(id) => (
            <input
              id={id}
              className="field"
              value={place.description}
              onChange={(event) => onChange({ ...place, description: event.target.value })}
            />
          )}
        </Labelled>
      </div>
    </section>
  );
}

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
      <div className="grid grid-cols-[1fr_1.2fr_90px_1fr_90px] gap-x-3">
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
      </div>
      <div className="max-h-36 overflow-auto">
        {list.columns.map((one, index) => (
          <div key={index} className="mb-1 grid grid-cols-[1.2fr_64px_64px_1fr_1fr_26px] items-center gap-x-2">
            <input
              aria-label={t("Name of column {0}", index + 1)}
              className="field font-mono"
              value={one.name}
              onChange={(event) =>
                onChange({
                  ...list,
                  columns: list.columns.map((two, at) => (at === index ? { ...two, name: event.target.value } : two)),
                })
              }
            />
            <input
              aria-label={t("Begin of column {0}", index + 1)}
              className="field"
              inputMode="numeric"
              value={one.column}
              onChange={(event) =>
                onChange({
                  ...list,
                  columns: list.columns.map((two, at) =>
                    at === index ? { ...two, column: Number(event.target.value) || 1 } : two,
                  ),
                })
              }
            />
            <input
              aria-label={t("Length of column {0}", index + 1)}
              className="field"
              inputMode="numeric"
              value={one.length}
              onChange={(event) =>
                onChange({
                  ...list,
                  columns: list.columns.map((two, at) =>
                    at === index ? { ...two, length: Number(event.target.value) || 1 } : two,
                  ),
                })
              }
            />
            <Select
              label={t("Type of column {0}", index + 1)}
              value={one.type}
              onChange={(type) =>
                onChange({ ...list, columns: list.columns.map((two, at) => (at === index ? { ...two, type } : two)) })
              }
              options={TYPES.map((two) => ({ value: two, word: two }))}
            />
            <input
              aria-label={t("Look of column {0}", index + 1)}
              className="field font-mono"
              disabled={!one.type.startsWith("date")}
              value={one.type.startsWith("date") ? one.dates : ""}
              onChange={(event) =>
                onChange({
                  ...list,
                  columns: list.columns.map((two, at) => (at === index ? { ...two, dates: event.target.value } : two)),
                })
              }
            />
            <button
              type="button"
              className="ibtn"
              aria-label={t("Remove the column {0}", one.name)}
              onClick={() => onChange({ ...list, columns: list.columns.filter((_, at) => at !== index) })}
            >
              <Trash2 size={16} strokeWidth={1.75} />
            </button>
          </div>
        ))}
      </div>
    </section>
  );
}
