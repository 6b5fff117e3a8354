/** The recorded moves: numbered, verb first; choosing one shows the screen as it was before it. */
import { ArrowRight, Keyboard, LogIn, Trash2 } from "lucide-react";
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
  onShow,
  onRemove,
}: {
  recording: Recording;
  start: string;
  shown: number | undefined;
  replayed: Replayed[];
  onShow: (index: number | undefined) => void;
  onRemove: (index: number) => void;
}) {
  const last = recording.shots[recording.shots.length - 1];
  return (
    <ol className="px-4 py-2">
      <li className="flex gap-2.5 pb-2">
        <LogIn size={18} strokeWidth={1.75} className="mt-0.5 shrink-0 text-ink3" />
        <div>
          <b className="font-semibold">{t("Sign on")}</b>
          <p className="text-xs text-ink2">
            {rich("By the backend’s credential, ends at {0}", <span className="font-mono">{start}</span>)}
          </p>
        </div>
      </li>
      {recording.shots.map((shot, index) => {
        const typed = typedWords(recording, shot);
        const again = replayed[index];
        return (
          <li key={index} className={`flex gap-2.5 border-t border-line py-1.5 ${shown === index ? "chosen" : ""}`}>
            <Keyboard size={18} strokeWidth={1.75} className="mt-0.5 ml-0.5 shrink-0 text-ink3" />
            <button
              type="button"
              className="min-w-0 grow text-left"
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
              aria-label={t("Remove move {0}", index + 1)}
              onClick={() => onRemove(index)}
            >
              <Trash2 size={15} strokeWidth={1.75} />
            </button>
          </li>
        );
      })}
      {last && (
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
