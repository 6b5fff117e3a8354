/** Findings of the readiness review, each with its place and its mend, and a button where the mend is mechanical. */
import { useState } from "react";
import { ask, type Finding, type Mends } from "../api";
import { useAct } from "../act";
import { Problems } from "./controls";
import { Panel } from "./dialog";
import { Diff } from "./diff";
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
  const [plan, setPlan] = useState<{ code: string; changes: Mends["changes"] } | null>(null);
  const path = `/services/${encodeURIComponent(service)}/mend`;
  const look = (code: string) =>
    act.run(async () => {
      const found = await ask<Mends>("POST", path, { environment, code, settings: true, plan_only: true });
      setPlan({ code, changes: found.changes });
    });
  const mend = () =>
    act.run(async () => {
      if (!plan) return;
      await ask("POST", path, { environment, code: plan.code, settings: true });
      setPlan(null);
      onMended();
    });
  const live = (plan?.changes ?? []).filter((one) => one.kind === "environment").map((one) => one.name);
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
                  if (may && !act.busy) void look(one.code);
                }}
              >
                {t("Mend it")}
              </button>
            )}
          </div>
        </div>
      ))}
      <Panel title={t("What the mend changes")} open={plan !== null} onClose={() => setPlan(null)} wide>
        {plan?.changes.map((one) => (
          <div key={one.path} className="mb-3">
            <p className="font-mono text-[12px] text-ink2">{one.path}</p>
            <Diff lines={one.lines} label={t("Changes of {0}", one.path)} />
          </div>
        ))}
        {live.length > 0 && (
          <p className="strip mb-3">
            {t("This is in effect at once in {0}; there is no draft of it.", live.join(", "))}
          </p>
        )}
        <div className="flex gap-2">
          <button
            type="button"
            className="btn btn-main"
            aria-disabled={act.busy}
            onClick={() => {
              if (!act.busy) void mend();
            }}
          >
            {live.length > 0 ? t("Change it now") : t("Make it a draft")}
          </button>
          <button type="button" className="btn" onClick={() => setPlan(null)}>
            {t("Cancel")}
          </button>
        </div>
      </Panel>
    </>
  );
}
