/** Moments of which the database does not say in which zone they are. */
import { Mark } from "../../parts/marks";
import { t } from "../../text";

export function OpenZones({ names }: { names: readonly string[] }) {
  if (!names.length) return null;
  return (
    <p className="mt-2 flex items-baseline gap-1.5 text-warn">
      <Mark name="risk" />
      <span>{t("Moments of {0} are told as they stand: the database does not say their zone.", names.join(", "))}</span>
    </p>
  );
}
