/** Lists of what happened: a row that begins with its time, and the facts of the chosen one. */
import type { ReactNode } from "react";
import { clock } from "../formats";
import { CopyButton } from "./controls";

/** Selecting by pointer; by keyboard it is J and K, and the time is a button. */
export function TimeRow({
  at,
  selected,
  onSelect,
  children,
}: {
  at: number;
  selected: boolean;
  onSelect: () => void;
  children: ReactNode;
}) {
  return (
    <tr aria-selected={selected} onClick={onSelect} className="whitespace-nowrap">
      <th scope="row">
        <button type="button" className="font-mono text-[12.5px]">
          {clock(new Date(at * 1000))}
        </button>
      </th>
      {children}
    </tr>
  );
}

/** Words with their values; the first is a number that people copy. */
export function Facts({ copied, rows }: { copied: string; rows: readonly (readonly [string, string])[] }) {
  return (
    <dl className="mt-3 grid grid-cols-[96px_minmax(0,1fr)] gap-y-1">
      {rows.map(([word, value], index) => (
        <div key={word} className="contents">
          <dt className="text-ink2">{word}</dt>
          <dd className="flex items-center gap-1 break-all">
            {index === 0 ? (
              <>
                <span className="font-mono text-[12.5px]">{value}</span>
                <CopyButton text={value} what={copied} />
              </>
            ) : (
              value
            )}
          </dd>
        </div>
      ))}
    </dl>
  );
}
