/** A record tried on a layout: bytes and letters side by side, the item under the cursor lit in both and in the list. */
import { useEffect, useState } from "react";
import { ask, ProblemError, type Problem, type SpreadItem, type SpreadRecord } from "../../api";
import { Problems } from "../../parts/controls";
import { t } from "../../text";
import { said, type Copybook, type Held } from "./types";

const ROW = 16;

export function Bytes({
  copybook,
  record,
  held,
  onLine,
}: {
  copybook: Copybook;
  record: string;
  held: Held;
  onLine: (line: number) => void;
}) {
  const [hex, setHex] = useState("");
  const [found, setFound] = useState<SpreadRecord | null>(null);
  const [problems, setProblems] = useState<Problem[]>([]);
  const [lit, setLit] = useState<SpreadItem | null>(null);
  const plain = hex.replace(/[^0-9A-Fa-f]/g, "");
  useEffect(() => {
    if (!plain || plain.length % 2) return;
    const timer = setTimeout(() => {
      ask<SpreadRecord>("POST", "/copybooks/spread", { ...said(copybook), record, held, hex: plain }).then(
        (answer) => {
          setFound(answer);
          setProblems([]);
        },
        (error: unknown) => {
          if (error instanceof ProblemError) setProblems(error.problems);
        },
      );
    }, 250);
    return () => clearTimeout(timer);
  }, [plain, copybook, record, held]);
  const bytes = plain.match(/../g) ?? [];
  const within = (at: number) => lit && at >= lit.offset && at < lit.offset + lit.length;
  const itemAt = (at: number) =>
    found?.items.find((one) => !one.view && at >= one.offset && at < one.offset + one.length) ?? null;
  const point = (one: SpreadItem | null) => {
    setLit(one);
    if (one) onLine(one.line);
  };
  return (
    <div className="grid min-h-0 grow grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-4">
      <div className="flex min-h-0 min-w-0 flex-col gap-2">
        <textarea
          aria-label={t("Bytes in hexadecimal")}
          className="field h-14 shrink-0 font-mono text-[12.5px]"
          placeholder={t("Paste the bytes of one record in hexadecimal: C1 C2 F0 …")}
          spellCheck={false}
          value={hex}
          onChange={(event) => setHex(event.target.value)}
        />
        {plain.length % 2 === 1 && <p className="text-ink2">{t("The last byte has one digit.")}</p>}
        <Problems problems={problems} />
        <div className="min-h-0 overflow-auto font-mono text-[12.5px] leading-5" onMouseLeave={() => setLit(null)}>
          {found &&
            Array.from({ length: Math.ceil(bytes.length / ROW) }, (_, row) => (
              <div key={row} className="flex gap-3 whitespace-pre">
                <span className="w-10 text-right text-ink3">{row * ROW}</span>
                <span>
                  {bytes.slice(row * ROW, row * ROW + ROW).map((one, index) => (
                    <span
                      key={index}
                      className={within(row * ROW + index) ? "bg-accent text-onaccent" : ""}
                      onMouseEnter={() => point(itemAt(row * ROW + index))}
                    >
                      {one.toUpperCase()}{" "}
                    </span>
                  ))}
                </span>
                <span>
                  {[...found.letters.slice(row * ROW, row * ROW + ROW)].map((one, index) => (
                    <span
                      key={index}
                      className={within(row * ROW + index) ? "bg-accent text-onaccent" : ""}
                      onMouseEnter={() => point(itemAt(row * ROW + index))}
                    >
                      {one}
                    </span>
                  ))}
                </span>
              </div>
            ))}
        </div>
      </div>
      <div className="min-h-0 overflow-auto">
        {found && (
          <table className="tbl" aria-label={t("Values")}>
            <thead>
              <tr>
                <th scope="col">{t("Item")}</th>
                <th scope="col" className="n">
                  {t("Offset")}
                </th>
                <th scope="col">{t("Value")}</th>
              </tr>
            </thead>
            <tbody>
              {found.items.map((one) => (
                <tr
                  key={`${one.path} ${one.offset}`}
                  aria-selected={lit?.path === one.path && lit.offset === one.offset}
                  onMouseEnter={() => setLit(one)}
                  onClick={() => point(one)}
                >
                  <td className="font-mono text-[12.5px] whitespace-nowrap">
                    {one.path.split(".").slice(1).join(".") || one.path}
                  </td>
                  <td className="n">{one.offset}</td>
                  <td
                    className={`font-mono text-[12.5px] w-full break-all whitespace-pre-wrap ${one.problem ? "text-bad" : ""}`}
                  >
                    {one.problem ?? `“${one.value ?? ""}”`}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </div>
  );
}
