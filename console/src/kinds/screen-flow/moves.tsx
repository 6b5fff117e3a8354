/** The recorded moves: numbered, verb first; choosing one shows the screen as it was before it. */
import { ArrowRight, Keyboard, LogIn, Pencil, Trash2 } from "lucide-react";
import { useState } from "react";
import { Select } from "../../parts/controls";
import { Mark } from "../../parts/marks";
import { named, type Recording } from "./recorder";
import { spot, type Shot } from "./types";
import { rich, t } from "../../text";

export interface Replayed {
  state: "ok" | "other";
  came: string;
}

function typedWords(recording: Recording, shot: Shot): string {
  const screen = named(recording, shot.known);
  return Object.entries(shot.typed)
    .filter(([, text]) => text !== "")
    .map(([start, text]) => {
      const at = spot(shot.before, Number(start));
      const place = recording.places.find(
        (one) => one.screen === screen && one.row === at.row && one.column === at.column,
      );
      return place?.kind === "input" ? place.name : text === null ? t("a secret") : `“${text}”`;
    })
    .join(", ");
}

export function MoveList({
  recording,
  start,
  shown,
  replayed,
  keys,
  onShow,
  onChange,
  onRemove,
}: {
  recording: Recording;
  start: string;
  /** That the terminal has. */
  keys: string[];
  /** Another key, or other texts, of a move. */
  onChange: (index: number, change: Partial<Pick<Shot, "key" | "typed">>) => void;
  shown: number | undefined;
  replayed: Replayed[];
  onShow: (index: number | undefined) => void;
  onRemove: (index: number) => void;
}) {
  const [edited, setEdited] = useState<number>();
  const last = recording.shots[recording.shots.length - 1];
  return (
    <ol className="px-4 py-2">
      <li className="flex gap-2.5 pb-2">
        <LogIn size={18} strokeWidth={1.75} className="mt-0.5 shrink-0 text-ink3" />
        <div>
          <b className="font-semibold">{t("Sign on")}</b>
          <p className="text-xs text-ink2">
            {start
              ? rich("By the backend’s credential, ends at {0}", <span className="font-mono">{start}</span>)
              : t("By you, at this terminal")}
          </p>
        </div>
      </li>
      {recording.shots.map((shot, index) => {
        const typed = typedWords(recording, shot);
        const again = replayed[index];
        return (
          <li
            key={index}
            className={`flex flex-wrap gap-2.5 border-t border-line py-1.5 ${shown === index ? "chosen" : ""}`}
          >
            <Keyboard size={18} strokeWidth={1.75} className="mt-0.5 ml-0.5 shrink-0 text-ink3" />
            <button
              type="button"
              className="min-w-0 grow basis-0 text-left"
              aria-pressed={shown === index}
              onClick={() => onShow(shown === index ? undefined : index)}
            >
              <span className="flex items-center gap-1.5">
                <b className="font-semibold">{typed ? t("Type and send") : t("Press {0}", shot.key)}</b>
                <span className="ml-auto text-xs text-ink3">{index + 1}</span>
              </span>
              <span className="block text-xs break-words text-ink2">
                {rich(
                  "{0}on {1}",
                  typed && (
                    <>
                      <span className="font-mono">{typed}</span>, {shot.key},{" "}
                    </>
                  ),
                  <span className="font-mono">{named(recording, shot.known)}</span>,
                )}
              </span>
              <span className="flex items-center gap-1 text-xs text-ink2">
                {rich(
                  "{0}expect {1}{2}",
                  <ArrowRight size={12} strokeWidth={1.75} />,
                  <span className="font-mono">{named(recording, shot.came)}</span>,
                  again && (
                    <span
                      className={`ml-auto flex items-center gap-1 ${again.state === "ok" ? "text-ok" : "text-bad"}`}
                    >
                      <Mark name={again.state === "ok" ? "serving" : "fault"} />
                      {again.state === "ok" ? t("came again") : t("now {0}", named(recording, again.came))}
                    </span>
                  ),
                )}
              </span>
            </button>
            <button
              type="button"
              className="ibtn"
              aria-label={t("Change move {0}", index + 1)}
              aria-expanded={edited === index}
              onClick={() => setEdited(edited === index ? undefined : index)}
            >
              <Pencil size={15} strokeWidth={1.75} />
            </button>
            <button
              type="button"
              className="ibtn"
              aria-label={t("Remove move {0}", index + 1)}
              onClick={() => onRemove(index)}
            >
              <Trash2 size={15} strokeWidth={1.75} />
            </button>
            {edited === index && (
              <MoveForm shot={shot} number={index + 1} keys={keys} onChange={(change) => onChange(index, change)} />
            )}
          </li>
        );
      })}
      {last && start && (
        <li className="flex gap-2 border-t border-line pt-2 text-xs text-ink2">
          <Mark name={named(recording, last.came) === start ? "serving" : "risk"} />
          {named(recording, last.came) === start
            ? t("Back at the start; the session stays warm.")
            : t("Go back to {0} before you finish.", start)}
        </li>
      )}
    </ol>
  );
}

/** Another key, and other texts in the fields that were typed into; a secret stays one. */
function MoveForm({
  shot,
  number,
  keys,
  onChange,
}: {
  shot: Shot;
  number: number;
  keys: string[];
  onChange: (change: Partial<Pick<Shot, "key" | "typed">>) => void;
}) {
  return (
    <div className="w-full basis-full pl-7">
      <Select
        label={t("Key of move {0}", number)}
        value={shot.key}
        onChange={(key) => onChange({ key })}
        options={keys.map((one) => ({ value: one, word: one }))}
      />
      {Object.entries(shot.typed).map(([start, text]) => {
        const at = spot(shot.before, Number(start));
        return (
          <label key={start} className="mt-1 block text-xs text-ink2">
            {t("Row {0}, column {1}", at.row, at.column)}
            <input
              className="field font-mono"
              aria-label={t("Text of move {0} at row {1}, column {2}", number, at.row, at.column)}
              disabled={text === null}
              placeholder={text === null ? t("a secret") : ""}
              value={text ?? ""}
              onChange={(event) => onChange({ typed: { ...shot.typed, [start]: event.target.value } })}
            />
          </label>
        );
      })}
      <p className="mt-1 text-xs text-ink3">{t("Replay shows whether the host answers it the same.")}</p>
    </div>
  );
}
