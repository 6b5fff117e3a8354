/** Findings of the readiness review, each with its place and its mend, and a button where the mend is mechanical. */
import { ask, type Finding } from "../api";
import { useAct } from "../act";
import { Problems } from "./controls";
import { Mark, STATE_MARK } from "./marks";
import { t } from "../text";

export function Findings({
  findings,
  service,
  environment,
  may,
  onMended,
}: {
  findings: Finding[];
  service: string;
  environment: string;
  may: boolean;
  onMended: () => void;
}) {
  const act = useAct();
  const mend = (code: string) =>
    act.run(async () => {
      await ask("POST", `/services/${encodeURIComponent(service)}/mend`, { environment, code });
      onMended();
    });
  return (
    <>
      {act.problems.length > 0 && (
        <div className="px-4 py-2">
          <Problems problems={act.problems} />
        </div>
      )}
      {findings.map((one, index) => (
        <div key={index} className="flex gap-2 border-t border-line px-4 py-2">
          <Mark name={STATE_MARK[one.severity] ?? "none"} label={one.severity} className="mt-0.5" />
          <div className="min-w-0">
            <p className="font-semibold">{one.message}</p>
            <p className="text-xs break-words text-ink2">
              {one.place}
              {one.expected && t(": expected {0}", one.expected)}
              {one.found && t(", found {0}", one.found)}
            </p>
            {one.mend && <p className="text-ink2">{one.mend}</p>}
            {one.command && <p className="font-mono text-[12px] break-words text-ink2">{one.command}</p>}
            {one.mendable && (
              <button
                type="button"
                className="act"
                aria-disabled={act.busy || !may}
                title={may ? undefined : t("Mending needs the role integrator")}
                onClick={() => {
                  if (may && !act.busy) void mend(one.code);
                }}
              >
                {t("Mend it")}
              </button>
            )}
          </div>
        </div>
      ))}
    </>
  );
}
