/** The parameters of one direction, nested ones indented below their record. */
import { UserRound } from "lucide-react";
import type { ElementShape } from "../api";
import type { SourceKind } from "../kinds";
import { rich, t } from "../text";

function flatten(elements: ElementShape[], depth = 0): { element: ElementShape; depth: number }[] {
  return elements.flatMap((element) => [{ element, depth }, ...flatten(element.elements ?? [], depth + 1)]);
}

export function Elements({
  head,
  last,
  elements,
  from,
}: {
  head: string;
  last: string;
  elements: ElementShape[];
  /** What gives the values; callers, where nothing is said. */
  from?: SourceKind;
}) {
  return (
    <table className="tbl table-fixed">
      <colgroup>
        <col className="w-[164px]" />
        <col className="w-[104px]" />
        <col className="w-[118px]" />
        <col className="w-[66px]" />
        <col className="w-[48px]" />
        <col />
      </colgroup>
      <thead>
        <tr>
          <th scope="col">{head}</th>
          <th scope="col">{t("Given by")}</th>
          <th scope="col">{t("Type")}</th>
          <th scope="col">{last}</th>
          <th scope="col">{t("List")}</th>
          <th scope="col">{t("Documentation")}</th>
        </tr>
      </thead>
      <tbody>
        {flatten(elements).map(({ element, depth }, index) => (
          <tr key={index} title={element.rule}>
            <th scope="row" className="truncate font-mono text-[12.5px]" style={{ paddingLeft: 20 + depth * 16 }}>
              {element.name}
            </th>
            <td>
              <span className="flex items-center gap-1.5 text-ink2">
                {!from ? (
                  <>
                    <UserRound size={14} strokeWidth={1.75} className="shrink-0" />
                    {element.default != null ? (
                      <>
                        {rich(
                          "default {0}",
                          <span className="rounded-[3px] border border-line2 px-1 font-mono text-xs">
                            {element.default}
                          </span>,
                        )}
                      </>
                    ) : (
                      t("caller")
                    )}
                  </>
                ) : (
                  <>
                    <from.icon size={14} strokeWidth={1.75} />
                    {from.gives}
                  </>
                )}
              </span>
            </td>
            <td className="truncate">
              {element.type}
              {element.unit && <span className="text-ink3">, {element.unit}</span>}
            </td>
            <td>{element.required ? t("yes") : <span className="text-ink3">{t("no")}</span>}</td>
            <td className="text-ink2">
              {element.list
                ? element.most == null
                  ? t("any")
                  : t("{0} to {1}", element.least, element.most)
                : t("one")}
            </td>
            <td className="py-1!">{element.description || <span className="text-ink3">–</span>}</td>
          </tr>
        ))}
        {!elements.length && (
          <tr>
            <td colSpan={6} className="text-ink2">
              {t("Nothing.")}
            </td>
          </tr>
        )}
      </tbody>
    </table>
  );
}
