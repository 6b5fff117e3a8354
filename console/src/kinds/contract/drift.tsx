/** Whether the other side still has the contract that was taken in: what the last look found, and a new look. */
import { ask, type ContractCheck, type Overview } from "../../api";
import { useAct } from "../../act";
import { useLoad } from "../../load";
import { Problems } from "../../parts/controls";
import { EnvTag, Mark } from "../../parts/marks";
import { mayAtLeast, useSession } from "../../session";
import { when } from "../../formats";
import { t } from "../../text";

const STATES = {
  same: { mark: "serving", word: t("as taken in") },
  changed: { mark: "fault", word: t("changed on the other side") },
  "not checked": { mark: "risk", word: t("could not be looked at") },
} as const;

export function Drift({ contract }: { contract: string }) {
  const may = mayAtLeast(useSession(), "operator");
  const overview = useLoad<Overview>("/overview");
  const { data, reload } = useLoad<ContractCheck[]>("/contracts/checks", 10);
  const act = useAct();
  const found = data?.filter((one) => one.contract === contract) ?? [];
  const look = (environment: string) =>
    void act.run(async () => {
      await ask("POST", `/environments/${encodeURIComponent(environment)}/contracts/check`);
      reload();
    });
  return (
    <>
      <h2 className="px-4 pt-4 pb-1 text-[15px] font-semibold">{t("On the other side")}</h2>
      {found.map((one) => {
        const state = STATES[one.state as keyof typeof STATES] ?? STATES["not checked"];
        return (
          <div key={`${one.environment} ${one.backend}`} className="border-t border-line px-4 py-1.5">
            <p className="flex items-center gap-2">
              <Mark name={state.mark} />
              <b className="font-semibold">{state.word}</b>
              <span className="ml-auto text-xs text-ink2">
                {one.environment}, {when(one.at)}
              </span>
            </p>
            {one.changes.map((two, index) => (
              <p key={index} className="mt-1 text-xs">
                <span className="font-mono break-all">{two.place}</span> {two.message}{" "}
                {two.callers.length > 0 && (
                  <span className="text-ink2">{t("Concerns {0}.", two.callers.join(", "))}</span>
                )}
              </p>
            ))}
            {one.problems.length > 0 && one.state !== "same" && <Problems problems={one.problems} />}
          </div>
        );
      })}
      {data && !found.length && <p className="px-4 text-ink2">{t("Nobody has looked yet.")}</p>}
      {act.problems.length > 0 && (
        <div className="px-4 py-1">
          <Problems problems={act.problems} />
        </div>
      )}
      <p className="flex flex-wrap gap-2 px-4 py-2">
        {overview.data?.environments.map((one) => (
          <button
            key={one.name}
            type="button"
            className="btn"
            aria-disabled={!may || act.busy}
            onClick={() => {
              if (may && !act.busy) look(one.name);
            }}
          >
            {t("Look now:")} <EnvTag name={one.name} isProtected={one.protected} />
          </button>
        ))}
      </p>
    </>
  );
}
