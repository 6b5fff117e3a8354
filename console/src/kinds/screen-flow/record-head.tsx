/** The head of the recorder: where one is, how much was recorded, and what can be done with it. */
import { Circle, Pause, Play, RotateCcw } from "lucide-react";
import { plural } from "../../formats";
import { rich, t } from "../../text";

const STATE = "ml-3 inline-flex h-7 items-center gap-2 rounded-[3px] border px-2.5 font-semibold";

export function RecordHead({
  title,
  where,
  open,
  strange,
  paused,
  moves,
  replaying,
  onLeave,
  onConnect,
  onPause,
  onReplay,
  onFinish,
}: {
  title: string;
  where: string;
  open: boolean;
  /** A host that nobody has defined: it is connected, and nothing is recorded. */
  strange: boolean;
  paused: boolean;
  moves: number;
  replaying: boolean;
  onLeave: () => void;
  onConnect: () => void;
  onPause: () => void;
  onReplay: () => void;
  onFinish: () => void;
}) {
  return (
    <header className="flex items-center gap-3 border-b border-line px-5 py-2">
      <div className="min-w-0">
        <h1 className="text-[20px] leading-6 font-semibold">{title}</h1>
        <p className="text-xs text-ink2">{where}</p>
      </div>
      {open && (
        <span className={`${STATE} ${paused ? "border-edge text-ink2" : "border-bad text-bad"}`}>
          <Circle size={11} fill="currentColor" stroke="none" />
          {paused ? t("Paused") : t("Recording")}, {plural(moves, "move")}
        </span>
      )}
      <span className="ml-auto flex items-center gap-2">
        {open && strange && (
          <>
            <button type="button" className="btn" onClick={onLeave}>
              {t("Leave")}
            </button>
            <button type="button" className="btn btn-main" onClick={onConnect}>
              {t("Connect it")}
            </button>
          </>
        )}
        {open && !strange && (
          <>
            <button type="button" className="btn" onClick={onPause}>
              {paused ? <Play size={15} /> : <Pause size={15} />}
              {paused ? t("Go on") : t("Pause")}
            </button>
            <button
              type="button"
              className="btn"
              aria-disabled={!moves || replaying}
              onClick={() => {
                if (moves && !replaying) onReplay();
              }}
            >
              {rich("{0}Replay from move 1", <RotateCcw size={15} />)}
            </button>
            <button
              type="button"
              className="btn btn-main"
              aria-disabled={!moves}
              onClick={() => {
                if (moves) onFinish();
              }}
            >
              {t("Finish")}
            </button>
          </>
        )}
      </span>
    </header>
  );
}
