/** A host screen: one layer of text runs per row, one layer of marks above, the cursor, and a text copy for those who hear it. */
import { useRef, type ReactNode } from "react";
import { charactersOf, spot, type Area, type HostScreen } from "./types";
import { t } from "../../text";

const COLOURS: Record<string, string> = {
  blue: "var(--term-blue)",
  red: "var(--term-red)",
  pink: "var(--term-pink)",
  green: "var(--term-fg)",
  turquoise: "var(--term-turq)",
  yellow: "var(--term-yellow)",
  white: "var(--term-hi)",
};
const LINE = 1.46; // of the letter size

interface Style {
  colour: string;
  bold: boolean;
  under: boolean;
  reverse: boolean;
}

/** The style of every position; what no field covers is plain. */
function styles(screen: HostScreen): Style[] {
  const plain: Style = { colour: "var(--term-fg)", bold: false, under: false, reverse: false };
  const all = Array.from({ length: screen.rows * screen.columns }, () => plain);
  for (const field of screen.fields) {
    const colour =
      COLOURS[field.colour ?? ""] ??
      (field.intensified ? "var(--term-hi)" : field.protected ? "var(--term-fg)" : "var(--term-turq)");
    const style = {
      colour,
      bold: Boolean(field.intensified),
      under: !field.protected || field.highlight === "underscore",
      reverse: field.highlight === "reverse",
    };
    for (let at = field.start; at < Math.min(field.start + field.length, all.length); at++) all[at] = style;
  }
  return all;
}

function runs(screen: HostScreen): { text: string; style: Style }[][] {
  const all = styles(screen),
    characters = charactersOf(screen);
  return screen.lines.map((_, row) => {
    const found: { text: string; style: Style }[] = [];
    for (let column = 0; column < screen.columns; column++) {
      const at = row * screen.columns + column;
      const style = all[at] as Style,
        last = found[found.length - 1];
      if (last && last.style === style) last.text += characters[at];
      else found.push({ text: characters[at] ?? " ", style });
    }
    return found;
  });
}

export function Box({ area, className, children }: { area: Area; className: string; children?: ReactNode }) {
  return (
    <div
      className={`pointer-events-none absolute ${className}`}
      style={{
        left: `${area.column - 1}ch`,
        top: `${(area.row - 1) * LINE}em`,
        width: `${area.lastColumn - area.column + 1}ch`,
        height: `${(area.lastRow - area.row + 1) * LINE}em`,
      }}
    >
      {children}
    </div>
  );
}

/** Where a tag does not cover text: above the box, below it, or at its right; above where it cannot be helped. */
export function tagSide(screen: HostScreen, area: Area, length: number): string {
  const blank = (row: number, from: number, to: number) =>
    row >= 1 &&
    row <= screen.rows &&
    to <= screen.columns &&
    !(screen.lines[row - 1] ?? "")
      .padEnd(screen.columns)
      .slice(from - 1, to)
      .trim();
  if (blank(area.row - 1, area.column, area.column + length)) return "";
  if (blank(area.lastRow + 1, area.column, area.column + length)) return "ttag-below";
  return area.row === area.lastRow && blank(area.row, area.lastColumn + 1, area.lastColumn + length + 3)
    ? "ttag-right"
    : "";
}

export function HostView({
  screen,
  cursor,
  marks,
  name,
  onPick,
  onKey,
  status,
  small = false,
}: {
  screen: HostScreen;
  cursor?: number;
  marks?: ReactNode;
  name: string;
  onPick?: (area: Area, dragged: boolean) => void;
  onKey?: (event: React.KeyboardEvent) => void;
  status?: ReactNode;
  small?: boolean;
}) {
  const pane = useRef<HTMLDivElement>(null);
  const from = useRef<{ row: number; column: number } | null>(null);
  const place = (event: React.PointerEvent) => {
    const box = (pane.current as HTMLDivElement).getBoundingClientRect();
    const clamp = (value: number, most: number) => Math.min(Math.max(1, value), most);
    return {
      row: clamp(Math.floor(((event.clientY - box.top) / box.height) * screen.rows) + 1, screen.rows),
      column: clamp(Math.floor(((event.clientX - box.left) / box.width) * screen.columns) + 1, screen.columns),
    };
  };
  const up = (event: React.PointerEvent) => {
    if (!from.current || !onPick) return;
    const to = place(event),
      first = from.current;
    from.current = null;
    const area = {
      row: Math.min(first.row, to.row),
      column: Math.min(first.column, to.column),
      lastRow: Math.max(first.row, to.row),
      lastColumn: Math.max(first.column, to.column),
    };
    onPick(area, area.row !== area.lastRow || area.lastColumn - area.column > 0);
  };
  const at = cursor === undefined ? undefined : spot(screen, cursor);
  return (
    <div className="@container min-w-0">
      <div
        className="term font-mono"
        style={
          small
            ? { fontSize: `calc((100cqw - 8px) / ${screen.columns * 0.632})` }
            : {
                fontSize: `max(11px, min(calc((100cqw - 46px) / ${screen.columns * 0.632}), calc((100vh - 380px) / ${screen.rows * LINE}), 15px))`,
              }
        }
      >
        <div className={small ? "px-1 py-1" : "relative py-2 pr-2 pl-9"}>
          {!small && (
            <div
              aria-hidden="true"
              className="absolute top-2 left-0 w-7 text-right text-(--term-dim)"
              style={{ lineHeight: `${LINE}em` }}
            >
              {screen.lines.map((_, row) => (
                <div key={row} style={{ height: `${LINE}em` }}>
                  {row === 0 || (row + 1) % 5 === 0 || row + 1 === screen.rows ? row + 1 : ""}
                </div>
              ))}
            </div>
          )}
          {/* The screen is a focus region of its own: keys go to the host while it has the focus. */}
          <div
            ref={pane}
            role={onKey ? "application" : "img"}
            aria-label={onKey ? t("{0}. Keys go to the host; Shift Escape leaves.", name) : name}
            tabIndex={onKey ? 0 : undefined}
            onKeyDown={onKey}
            data-host-screen
            onPointerDown={(event) => {
              from.current = place(event);
            }}
            onPointerUp={up}
            className="relative outline-offset-2 select-none"
            style={{ width: `${screen.columns}ch`, lineHeight: `${LINE}em` }}
          >
            {runs(screen).map((row, number) => (
              <div key={number} className="whitespace-pre" style={{ height: `${LINE}em` }}>
                {row.map((run, index) => (
                  <span
                    key={index}
                    style={{
                      color: run.style.reverse ? "var(--term-bg)" : run.style.colour,
                      background: run.style.reverse ? run.style.colour : undefined,
                      fontWeight: run.style.bold ? 600 : 400,
                      boxShadow: run.style.under ? "inset 0 -1px 0 var(--term-dim)" : undefined,
                    }}
                  >
                    {run.text}
                  </span>
                ))}
              </div>
            ))}
            {marks}
            {at && (
              <div
                data-cursor
                className="pointer-events-none absolute bg-(--term-hi) opacity-60"
                style={{
                  left: `${at.column - 1}ch`,
                  top: `${(at.row - 1) * LINE + 0.15}em`,
                  width: "1ch",
                  height: "1.16em",
                }}
              />
            )}
          </div>
        </div>
        {status && (
          <div className="flex gap-6 border-t border-[#2A3B3E] px-9 py-1 text-xs text-(--term-dim)">{status}</div>
        )}
      </div>
      {onKey && (
        <div className="sr-only" aria-live="polite">
          {screen.lines
            .filter((line) => line.trim())
            .map((line, index) => (
              <p key={index}>{line.trim()}</p>
            ))}
        </div>
      )}
    </div>
  );
}
