/** The recorded moves: numbered, verb first; choosing one shows the screen as it was before it. */
import { ArrowRight, Keyboard, LogIn, Trash2 } from "lucide-react";
import { Mark } from "../../parts/marks";
import { named, type Recording } from "./recorder";
import { spot, type Shot } from "./types";

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
      return place?.kind === "input" ? place.name : text === null ? "a secret" : `“${text}”`;
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
          <b className="font-semibold">Sign on</b>
          <p className="text-xs text-ink2">
            By the backend’s credential, ends at <span className="font-mono">{start}</span>
          </p>
        </div>
      </li>
      {recording.shots.map((shot, index) => {
        const typed = typedWords(recording, shot);
        const again = replayed[index];
        return (
          <li
            key={index}
            className={`flex gap-2.5 border-t border-line py-1.5 ${shown === index ? "bg-wash shadow-[inset_3px_0_0_var(--band)]" : ""}`}
          >
            <Keyboard size={18} strokeWidth={1.75} className="mt-0.5 ml-0.5 shrink-0 text-ink3" />
            <button
              type="button"
              className="min-w-0 grow text-left"
              aria-pressed={shown === index}
              onClick={() => onShow(shown === index ? undefined : index)}
            >
              <span className="flex items-center gap-1.5">
                <b className="font-semibold">{typed ? "Type and send" : `Press ${shot.key}`}</b>
                <span className="ml-auto text-xs text-ink3">{index + 1}</span>
              </span>
              <span className="block text-xs break-words text-ink2">
                {typed && (
                  <>
                    <span className="font-mono">{typed}</span>, {shot.key},{" "}
                  </>
                )}
                on <span className="font-mono">{named(recording, shot.known)}</span>
              </span>
              <span className="flex items-center gap-1 text-xs text-ink2">
                <ArrowRight size={12} strokeWidth={1.75} />
                expect <span className="font-mono">{named(recording, shot.came)}</span>
                {again && (
                  <span className={`ml-auto flex items-center gap-1 ${again.state === "ok" ? "text-ok" : "text-bad"}`}>
                    <Mark name={again.state === "ok" ? "serving" : "fault"} />
                    {again.state === "ok" ? "came again" : `now ${named(recording, again.came)}`}
                  </span>
                )}
              </span>
            </button>
            <button
              type="button"
              className="ibtn"
              aria-label={`Remove move ${index + 1}`}
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
            ? "Back at the start; the session stays warm."
            : `Go back to ${start} before you finish.`}
        </li>
      )}
    </ol>
  );
}
