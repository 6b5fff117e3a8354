/** Differences in one column: two gutters of line numbers, a sign, and the text; colour is never alone. */
import type { Line } from "../api";
import { rich, t } from "../text";

const GROUND: Record<string, string> = { "+": "bg-okwash", "-": "bg-badwash" };

export function Diff({ lines, label }: { lines: Line[]; label: string }) {
  return (
    // The pane may scroll, so it must be reachable by keyboard.
    <div
      role="region"
      aria-label={label}
      // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- see above
      tabIndex={0}
      className="overflow-auto bg-inset font-mono text-[12px] leading-[17px]"
    >
      <div className="w-max min-w-full">
        {lines.map(([sign, old, next, text], index) =>
          sign === "…" ? (
            <div key={index} className="lens-gap flex items-center border-y border-line px-3 text-xs text-ink2">
              {rich("{0} {1} without change", text, text === "1" ? t("line") : t("lines"))}
            </div>
          ) : (
            <div
              key={index}
              className={`grid grid-cols-[36px_36px_18px_max-content] whitespace-pre ${GROUND[sign] ?? ""}`}
            >
              <span className="pr-2 text-right text-ink3 select-none">{old ?? ""}</span>
              <span className="pr-2 text-right text-ink3 select-none">{next ?? ""}</span>
              <span className="text-center font-semibold select-none">{sign === "-" ? "–" : sign}</span>
              <span className="pr-4">{text}</span>
            </div>
          ),
        )}
      </div>
    </div>
  );
}
