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
