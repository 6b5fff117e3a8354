/** The source of a copybook, with the lines of the chosen item lit. A click on a line chooses its item. */
import { useEffect, useRef, useState } from "react";
import { t } from "../../text";

const LINE = 18;

export function Source({
  text,
  lit,
  wrong,
  onChange,
  onLine,
}: {
  text: string;
  /** Lines from 1. */
  lit: number;
  wrong: number;
  onChange: (text: string) => void;
  onLine: (line: number) => void;
}) {
  const area = useRef<HTMLTextAreaElement>(null);
  const [top, setTop] = useState(0);
  const lines = text.split("\n").length;
  useEffect(() => {
    const box = area.current;
    if (!box || !lit) return;
    const at = (lit - 1) * LINE;
    if (at < box.scrollTop || at > box.scrollTop + box.clientHeight - 2 * LINE)
      box.scrollTop = Math.max(0, at - box.clientHeight / 3);
  }, [lit]);
  const band = (line: number, look: string) =>
    line > 0 && (
      <div
        aria-hidden
        className={`absolute right-0 left-0 ${look}`}
        style={{ top: (line - 1) * LINE - top + 4, height: LINE }}
      />
    );
  return (
    <div className="relative min-h-0 grow overflow-hidden border border-line bg-inset font-mono text-[12.5px]">
      {band(lit, "bg-wash")}
      {band(wrong, "bg-badwash border-l-2 border-bad")}
      <div
        aria-hidden
        className="absolute left-0 w-10 pr-2 text-right text-ink3 select-none"
        style={{ top: 4 - top, lineHeight: `${LINE}px` }}
      >
        {Array.from({ length: lines }, (_, index) => (
          <div key={index}>{index + 1}</div>
        ))}
      </div>
      <textarea
        ref={area}
        aria-label={t("Source of the copybook")}
        spellCheck={false}
        wrap="off"
        value={text}
        onChange={(event) => onChange(event.target.value)}
        onScroll={(event) => setTop(event.currentTarget.scrollTop)}
        onSelect={(event) => {
          const { selectionStart, value } = event.currentTarget;
          onLine(value.slice(0, selectionStart).split("\n").length);
        }}
        className="absolute inset-0 resize-none overflow-auto bg-transparent py-1 pr-2 pl-12 outline-none"
        style={{ lineHeight: `${LINE}px` }}
      />
    </div>
  );
}
