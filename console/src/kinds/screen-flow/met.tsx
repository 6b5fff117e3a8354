/** The screens that a recording has met, and what is marked on the one that is shown. */
import { rich, t } from "../../text";
import { type Selected } from "./marks";
import { met, named, type Recording } from "./recorder";
import { Trash2 } from "lucide-react";
import { type Fault, type List, type Place } from "./types";

const MARKED = "flex w-full items-center gap-2 border-t border-line px-4 py-1 text-left";

export function ScreensMet({
  recording,
  raw,
  opened,
  places,
  lists,
  faults,
  onFault,
  selected,
  onSelect,
  onRename,
}: {
  recording: Recording;
  raw: string;
  opened: { screens: string[]; start: string };
  places: Place[];
  lists: List[];
  faults: Fault[];
  /** With another name, or taken out. */
  onFault: (old: Fault, next: Fault | undefined) => void;
  selected: Selected;
  onSelect: (one: Selected) => void;
  onRename: (raw: string, name: string) => void;
}) {
  return (
    <nav aria-label={t("Screens met")} className="min-h-0 overflow-auto border-r border-line bg-inset">
      <h2 className="px-4 pt-3 pb-1 font-semibold">{t("Screens met")}</h2>
      {met(recording).map((one) => (
        <div
          key={one.raw}
          className={`flex items-center border-t border-line px-4 py-1 last:border-b ${one.raw === raw ? "chosen" : ""}`}
        >
          {opened.screens.includes(one.raw) ? (
            <span className="font-mono text-[12.5px]" title={t("A screen of the backend")}>
              {one.raw}
            </span>
          ) : (
            <input
              aria-label={t("Name of the screen {0}", one.raw)}
              className="w-full bg-transparent font-mono text-[12.5px] outline-none focus:underline"
              value={named(recording, one.raw)}
              onChange={(event) => onRename(one.raw, event.target.value)}
            />
          )}
          <span className="ml-auto pl-2 text-xs text-ink3">{one.visits}</span>
        </div>
      ))}
      {!recording.shots.length && (
        <p className="px-4 py-1 text-xs text-ink2">
          {opened.start
            ? rich(
                "The start screen is {0}. Click the screen and type.",
                <span className="font-mono">{opened.start}</span>,
              )
            : t("Click the screen and type.")}
        </p>
      )}
      <h2 className="px-4 pt-3 pb-1 font-semibold">{t("Marked here")}</h2>
      {places.map((one) => (
        <button
          type="button"
          key={`${one.kind} ${one.name}`}
          onClick={() => onSelect({ kind: "place", place: one })}
          className={`${MARKED} ${selected?.kind === "place" && selected.place === one ? "bg-wash" : ""}`}
        >
          <span className="font-mono text-[12.5px]">{one.name}</span>
          <span className="ml-auto text-xs text-ink2">
            {one.kind} {one.row}, {one.column}
          </span>
        </button>
      ))}
      {lists.map((one) => (
        <button
          type="button"
          key={one.name}
          onClick={() => onSelect({ kind: "list", list: one })}
          className={`${MARKED} ${selected?.kind === "list" && selected.list === one ? "bg-wash" : ""}`}
        >
          <span className="font-mono text-[12.5px]">{one.name}</span>
          <span className="ml-auto text-xs text-ink2">{rich("list {0} to {1}", one.first_row, one.last_row)}</span>
        </button>
      ))}
      {faults.map((one, index) => (
        <div key={index} className="border-t border-line px-4 py-1">
          <span className="flex items-center">
            <input
              aria-label={t("Name of the fault {0}", one.message)}
              className="w-full bg-transparent font-mono text-[12.5px] outline-none focus:underline"
              value={one.name}
              onChange={(event) => onFault(one, { ...one, name: event.target.value })}
            />
            <button
              type="button"
              className="ibtn"
              aria-label={t("Remove the fault {0}", one.name)}
              onClick={() => onFault(one, undefined)}
            >
              <Trash2 size={14} />
            </button>
          </span>
          <input
            aria-label={t("Text of the fault {0}", one.name)}
            title={t("The part of the message that is always the same")}
            className="field h-6! text-xs"
            value={one.message}
            onChange={(event) => onFault(one, { ...one, message: event.target.value })}
          />
        </div>
      ))}
      {!places.length && !lists.length && !faults.length && (
        <p className="px-4 pb-2 text-xs text-ink2">
          {t("Nothing yet. Click a field or a text, or drag over the rows of a list.")}
        </p>
      )}
    </nav>
  );
}
