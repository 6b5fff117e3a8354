/** The text of a definition with its line numbers; the line of what is in view in the form is marked. */
import { useEffect, useRef } from "react";
import { t } from "../text";

const LINE = 19; // pixels
const MOST_NUMBERED = 3000; // lines; of more the numbers would cost more than they tell

export function TextPane({
  path,
  text,
  marked,
  wrong,
  readOnly,
  onChange,
}: {
  path: string;
  text: string;
  /** The line of the field that has the focus in the form, from 1. */
  marked: number;
  /** Lines with a mistake. */
  wrong: number[];
  readOnly: boolean;
  onChange: (text: string) => void;
}) {
  const area = useRef<HTMLTextAreaElement>(null);
  const gutter = useRef<HTMLDivElement>(null);
  const follow = () => {
    if (area.current && gutter.current) gutter.current.style.transform = `translateY(${-area.current.scrollTop}px)`;
  };
  useEffect(() => {
    const box = area.current;
    if (!box || !marked) return;
    const top = (marked - 1) * LINE;
    if (top < box.scrollTop || top > box.scrollTop + box.clientHeight - 2 * LINE)
      box.scrollTop = Math.max(0, top - box.clientHeight / 3);
  }, [marked]);
  const count = text.split("\n").length;
  return (
    <div className="relative flex min-h-0 grow overflow-hidden bg-inset">
      <div className="w-10 shrink-0 overflow-hidden border-r border-line pt-3 text-right font-mono text-[11px] text-ink3 select-none">
        <div ref={gutter}>
          {Array.from({ length: count > MOST_NUMBERED ? 0 : count }, (_, index) => (
            <div
              key={index}
              style={{ height: LINE, lineHeight: `${LINE}px` }}
              className={`pr-1.5 ${
                wrong.includes(index + 1)
                  ? "bg-bad font-bold text-sheet"
                  : index + 1 === marked
                    ? "bg-wash font-bold text-accent"
                    : ""
              }`}
            >
              {index + 1}
            </div>
          ))}
        </div>
      </div>
      <textarea
        ref={area}
        aria-label={t("Text of {0}", path)}
        spellCheck={false}
        wrap="off"
        readOnly={readOnly}
        value={text}
        onScroll={follow}
        onChange={(event) => onChange(event.target.value)}
        className="min-h-0 min-w-0 grow resize-none bg-inset px-2 py-3 font-mono text-[12.5px] leading-[19px]"
      />
    </div>
  );
}
