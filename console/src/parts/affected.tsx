/** Operations that need what changes, with the cases that prove them and who called them. */
import type { AffectedOperation } from "../api";
import { t } from "../text";

export function Affected({ rows }: { rows: readonly AffectedOperation[] }) {
  return rows.map((one) => (
    <p key={`${one.service}.${one.operation}`} className="mt-2">
      <b className="font-semibold">{`${one.service}.${one.operation}`}</b>{" "}
      <span className="text-ink2">
        {t(
          "cases: {0}; callers: {1}",
          one.cases.join(", ") || t("none"),
          one.callers.join(", ") || t("none in 30 days"),
        )}
      </span>
    </p>
  ));
}
