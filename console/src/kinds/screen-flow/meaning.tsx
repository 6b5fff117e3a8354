/** What is pointed at on a screen, and the meaning that it is given: an input, an output, a list. */
import { rich, t } from "../../text";
import { ListForm } from "./list-form";
import { PlaceForm, type Selected } from "./marks";
import { type Area, type HostScreen, type Kind, type List, type Place } from "./types";

export function Meaning({
  selected,
  screen,
  keys,
  onMark,
  onFault,
  onPlace,
  onList,
  onRemove,
}: {
  selected: Selected;
  screen: HostScreen;
  keys: string[];
  onMark: (kind: Kind | "list", area: Area) => void;
  onFault: (area: Area) => void;
  onPlace: (old: Place, next: Place) => void;
  onList: (old: List, next: List) => void;
  onRemove: (one: NonNullable<Selected>) => void;
}) {
  return (
    <div className="rounded-[3px] border border-line bg-inset">
      {selected?.kind === "area" && (
        <div className="flex flex-wrap items-center gap-2 px-4 py-2">
          <span className="text-ink2">
            {rich(
              "Row {0}{1}, column {2} to {3}",
              selected.area.row,
              selected.area.lastRow !== selected.area.row && t(" to {0}", selected.area.lastRow),
              selected.area.column,
              selected.area.lastColumn,
            )}
          </span>
          {selected.area.row === selected.area.lastRow ? (
            <>
              {selected.isInput && (
                <button type="button" className="btn" onClick={() => onMark("input", selected.area)}>
                  {t("Make it an input")}
                </button>
              )}
              <button type="button" className="btn" onClick={() => onMark("output", selected.area)}>
                {t("Make it an output")}
              </button>
              {!selected.isInput && (
                <button type="button" className="btn" onClick={() => onFault(selected.area)}>
                  {t("It is a refusal of the host")}
                </button>
              )}
              {selected.isInput && (
                <button type="button" className="btn" onClick={() => onMark("fixed", selected.area)}>
                  {t("Always the same")}
                </button>
              )}
            </>
          ) : (
            <button type="button" className="btn" onClick={() => onMark("list", selected.area)}>
              {t("Make it a list")}
            </button>
          )}
        </div>
      )}
      {selected?.kind === "place" && (
        <PlaceForm
          place={selected.place}
          screen={screen}
          onChange={(next) => onPlace(selected.place, next)}
          onRemove={() => onRemove(selected)}
        />
      )}
      {selected?.kind === "list" && (
        <ListForm
          list={selected.list}
          keys={keys}
          onChange={(next) => onList(selected.list, next)}
          onRemove={() => onRemove(selected)}
        />
      )}
      {!selected && (
        <p className="px-4 py-2 text-ink2">
          {t("Click a field or a text on the screen to give it a meaning; drag over rows for a list.")}
        </p>
      )}
    </div>
  );
}
