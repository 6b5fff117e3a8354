/** The layout of a record as a table: where each item lies, and what of it goes in and comes out. */
import { useEffect, useRef } from "react";
import type { CopybookLayout, ItemRow } from "../../api";
import { t } from "../../text";
import { choosable, depths, type Sides, type Use } from "./types";

export function LayoutTable({
  layout,
  chosen,
  sides,
  use,
  onChoose,
  onSides,
}: {
  layout: CopybookLayout;
  chosen: string;
  sides: Sides;
  use: Use;
  onChoose: (item: ItemRow) => void;
  onSides: (sides: Sides) => void;
}) {
  const ticks = choosable(layout.items);
  const deep = depths(layout.items);
  const here = useRef<HTMLTableRowElement>(null);
  useEffect(() => {
    void here.current?.scrollIntoView({ block: "nearest" });
  }, [chosen]);
  const below = (path: string) => [...ticks].filter((one) => one === path || one.startsWith(`${path}.`));
  const tick = (side: "inputs" | "outputs", item: ItemRow) => {
    const paths = below(item.path);
    if (!paths.length || (item.kind !== "group" && !ticks.has(item.path))) return null;
    const on = paths.every((one) => sides[side].has(one));
    return (
      <input
        type="checkbox"
        checked={on}
        aria-label={side === "inputs" ? t("{0} goes in", item.name) : t("{0} comes out", item.name)}
        onChange={() => {
          const next = new Set(sides[side]);
          for (const one of paths) {
            if (on) next.delete(one);
            else next.add(one);
          }
          onSides({ ...sides, [side]: next });
        }}
      />
    );
  };
  return (
    <table className="tbl" aria-label={t("Layout")}>
      <thead>
        <tr>
          <th scope="col">{t("Item")}</th>
          <th scope="col" className="n">
            {t("Offset")}
          </th>
          <th scope="col" className="n">
            {t("Length")}
          </th>
          <th scope="col">{t("Picture")}</th>
          <th scope="col">{t("Held as")}</th>
          {use !== "out" && <th scope="col">{t("In")}</th>}
          {use !== "in" && <th scope="col">{t("Out")}</th>}
        </tr>
      </thead>
      <tbody>
        {layout.items.map((one, index) => (
          <tr
            key={`${one.path} ${index}`}
            ref={one.path === chosen ? here : undefined}
            aria-selected={one.path === chosen}
            onClick={() => onChoose(one)}
          >
            <td className="whitespace-nowrap" style={{ paddingLeft: 12 + (deep[index] ?? 0) * 14 }}>
              <button type="button" className="font-mono text-[12.5px]" onClick={() => onChoose(one)}>
                {one.name}
              </button>
            </td>
            <td className="n">{one.offset}</td>
            <td className="n">{one.length}</td>
            <td className="font-mono text-[12.5px]">{one.picture ?? ""}</td>
            <td className="text-ink2">{words(one)}</td>
            {use !== "out" && <td>{tick("inputs", one)}</td>}
            {use !== "in" && <td>{tick("outputs", one)}</td>}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function words(one: ItemRow): string {
  const told: string[] = one.kind === "group" ? [] : [one.kind];
  if (one.occurs) {
    const { least, most } = one.occurs;
    told.push(least === most ? t("{0} times", most) : t("{0} to {1} times", least, most));
  }
  if (one.redefines) told.push(t("view of {0}", one.redefines));
  return told.join(", ");
}
