/** The procedures and functions of a database, beneath its tables. */
import type { RoutineRow } from "../../api";
import { useLoad } from "../../load";
import { Problems } from "../../parts/controls";
import { Mark } from "../../parts/marks";
import { plural } from "../../formats";
import { t } from "../../text";

/** What tells a routine from others of its name, in an address. */
export const keyOf = (one: { name: string; signature: string }) => `${one.name}(${one.signature})`;

export default function RoutineList({
  base,
  narrow,
  chosen,
  onChoose,
}: {
  base: string;
  narrow: string;
  chosen: string;
  onChoose: (one: string) => void;
}) {
  const found = useLoad<RoutineRow[]>(`${base}/routines?search=${encodeURIComponent(narrow)}`);
  const hasNone = found.error?.problems.some((one) => one.code === "discover.routines");
  if (hasNone || (!found.error && !found.data)) return null;
  return (
    <section aria-label={t("Routines")} className="mt-3">
      <h2 className="lbl px-4 pb-1">{t("Procedures and functions")}</h2>
      {found.error && (
        <div className="px-4">
          <Problems problems={found.error.problems} />
        </div>
      )}
      {found.data?.map((one) => (
        <button
          key={keyOf(one)}
          type="button"
          aria-pressed={keyOf(one) === chosen}
          onClick={() => onChoose(keyOf(one))}
          className={`block w-full border-t border-line px-4 py-1 text-left last:border-b ${keyOf(one) === chosen ? "chosen" : ""}`}
        >
          <span className="flex items-center gap-1.5">
            <Mark name={markOf(one)} />
            <b className="truncate font-mono text-[12.5px] font-semibold">{one.name}</b>
            <span className="ml-auto text-xs text-ink2">
              {one.form === "function" ? t("function") : t("procedure")}
            </span>
          </span>
          <span className="block truncate text-xs text-ink2">
            {one.used[0] ??
              (one.differs[0] && t("routine {0} says something else", one.differs[0])) ??
              one.reasons[0] ??
              (one.comment || t("takes {0}, not published", plural(one.takes.length, "value")))}
          </span>
        </button>
      ))}
      {found.data?.length === 0 && (
        <p className="px-4 py-1 text-ink2">{narrow ? t("No routine mentions that.") : t("There are none.")}</p>
      )}
    </section>
  );
}

/** Green only where an operation is live; a draft is none. */
function markOf(one: RoutineRow) {
  if (one.serving) return "serving";
  if (one.used.length) return "draft";
  return one.differs.length || one.reasons.length ? "risk" : "none";
}
