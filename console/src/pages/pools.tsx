/** Pools: sessions to each backend as they are now, endpoints and their circuits, what is bound, and staged checks. */
import { PlugZap, RotateCw, Square, Play } from "lucide-react";
import { useState } from "react";
import { useAddress } from "../address";
import { steps, useKeys } from "../hotkeys";
import { ask, type BackendEnd, type CheckResult, type EnvironmentInfo, type Overview, type PoolView } from "../api";
import { useAct } from "../act";
import { ALL, useLens } from "../lens";
import { useLoad } from "../load";
import { Checks, Endpoints, SessionPosts, SessionTable } from "../pools/parts";
import { NotLoaded, Problems } from "../parts/controls";
import { Panel } from "../parts/dialog";
import { EnvTag, Gauge, Mark, STATE_MARK } from "../parts/marks";
import { mayAtLeast, useSession } from "../session";
import { grouped, plural, span } from "../formats";
import { rich, t } from "../text";

const keyOf = (one: { environment: string; backend: string }) => `${one.backend} ${one.environment}`;

/** What an environment can host, and why not where it cannot. */
function Hosted({ environments }: { environments: EnvironmentInfo[] }) {
  return environments.map((one) => {
    const lacking = one.hosts.filter((what) => !what.able);
    const kinds = one.hosts.filter((what) => what.able && what.what === "kind").map((what) => what.title);
    return (
      <section key={one.name} aria-label={t("What {0} can host", one.name)}>
        <h2 className="px-5 pt-4 pb-1 font-semibold">{rich("{0} can host", one.name)}</h2>
        <ul className="px-5 text-xs">
          {kinds.length > 0 && (
            <li className="flex items-center gap-1.5 py-0.5">
              <Mark name="serving" />
              <span>{kinds.join(", ")}</span>
            </li>
          )}
          {lacking.map((what) => (
            <li key={what.what + what.word} className="flex items-start gap-1.5 py-0.5">
              <Mark name="risk" />
              <span>{rich("Not {0}: {1}", what.title, what.reason)}</span>
            </li>
          ))}
        </ul>
      </section>
    );
  });
}

export default function PoolsPage() {
  const person = useSession();
  const [view] = useLens();
  const [search, setSearch] = useAddress();
  const { data, error, reload } = useLoad<PoolView[]>("/pools", 2);
  const ends = useLoad<BackendEnd[]>("/backends", 10);
  const overview = useLoad<Overview>("/overview", 30);
  const environments = (overview.data?.environments ?? []).filter((one) => view === ALL || one.name === view);
  const act = useAct();
  const [checks, setChecks] = useState<CheckResult[] | null>(null);
  const [asking, setAsking] = useState<"stop" | "cut" | null>(null);
  const may = mayAtLeast(person, "operator");
  const shown = (data ?? []).filter((one) => view === ALL || one.environment === view);
  const pool = shown.find((one) => keyOf(one) === search.get("pool")) ?? shown[0];
  const unbound = (ends.data ?? []).filter((one) => !one.bound && one.services.length > 0);
  const choose = (one: PoolView) => setSearch({ pool: keyOf(one) });

  useKeys(steps(shown, pool, choose));

  if (error && !data) return <NotLoaded error={error} />;
  if (!data) return null;
  if (!pool)
    return (
      <div className="px-5 py-4">
        <h1 className="text-[20px] leading-6 font-semibold">{t("Pools")}</h1>
        <p className="mt-1 text-ink2">
          {t(
            "No pool is running here. A pool keeps sessions to a backend ready; it starts with the first service that is deployed on it.",
          )}
        </p>
      </div>
    );
  const path = `/pools/${pool.environment}/${pool.backend}`;
  const doIt = (action: string) =>
    act.run(async () => {
      await ask("POST", path, { action });
      setAsking(null);
      reload();
    });
  const check = () =>
    act.run(async () =>
      setChecks(await ask<CheckResult[]>("POST", `/environments/${pool.environment}/check`, { backend: pool.backend })),
    );
  const count = pool.statistics;
  const used = count.pool_size - count.pool_available;
  const tone =
    pool.state === "serving" || pool.state === "asleep" ? "" : pool.state === "at risk" ? "text-warn" : "text-bad";
  return (
    <div className="grid min-h-0 grow grid-cols-[252px_minmax(0,1fr)]">
      <nav aria-label={t("Pools")} className="flex min-h-0 flex-col overflow-auto border-r border-line bg-inset">
        <h1 className="px-5 pt-3 pb-2 text-[15px] font-semibold">{t("Pools")}</h1>
        {shown.map((one) => (
          <button
            key={keyOf(one)}
            type="button"
            aria-pressed={one === pool}
            onClick={() => choose(one)}
            className={`block w-full border-t border-line px-5 py-2 text-left last-of-type:border-b ${one === pool ? "chosen" : ""}`}
          >
            <span className="flex items-center gap-2">
              <Mark name={STATE_MARK[one.state] ?? "none"} label={one.state} />
              <span className="font-semibold">{one.backend}</span>
              <EnvTag name={one.environment} isProtected={one.protected} />
            </span>
            <span className="mt-1 flex items-center gap-2 pl-5 text-xs text-ink2">
              {rich(
                "{0}{1} of {2}{3}",
                <Gauge
                  used={one.statistics.pool_size - one.statistics.pool_available}
                  warm={one.statistics.pool_available}
                  most={one.statistics.pool_max}
                  bad={one.state === "faulting"}
                />,
                one.statistics.pool_size - one.statistics.pool_available,
                one.statistics.pool_max,
                one.statistics.requests_waiting > 0 && (
                  <b className="text-warn">{rich("{0} waiting", one.statistics.requests_waiting)}</b>
                ),
              )}
            </span>
          </button>
        ))}
        <h2 className="px-5 pt-4 pb-1 font-semibold">{t("All pools here")}</h2>
        <dl className="grid grid-cols-[1fr_auto] gap-y-1 px-5 text-xs">
          <dt className="text-ink2">{t("Sessions in use")}</dt>
          <dd className="text-right font-semibold">
            {rich(
              "{0} of {1}",
              shown.reduce((sum, one) => sum + one.statistics.pool_size - one.statistics.pool_available, 0),
              shown.reduce((sum, one) => sum + one.statistics.pool_max, 0),
            )}
          </dd>
          <dt className="text-ink2">{t("Calls waiting")}</dt>
          <dd className="text-right font-semibold">
            {shown.reduce((sum, one) => sum + one.statistics.requests_waiting, 0)}
          </dd>
          <dt className="text-ink2">{t("Sessions lost")}</dt>
          <dd className="text-right font-semibold">
            {shown.reduce((sum, one) => sum + one.statistics.connections_lost, 0)}
          </dd>
        </dl>
        <Hosted environments={environments} />
        {unbound.length > 0 && (
          <>
            <h2 className="px-5 pt-4 pb-1 font-semibold">{t("Not bound")}</h2>
            <ul className="px-5 text-xs">
              {unbound.map((one) => (
                <li key={keyOf(one)} className="flex items-center gap-1.5 py-0.5">
                  <Mark name="fault" />
                  <span>{rich("{0} in {1}", one.backend, one.environment)}</span>
                </li>
              ))}
            </ul>
          </>
        )}
        <div className="mt-auto flex flex-wrap gap-x-4 gap-y-1.5 border-t border-line px-5 py-3 text-xs text-ink2">
          {(["in use", "warm", "opening", "draining"] as const).map((state) => (
            <span key={state} className="flex items-center gap-1.5">
              <Mark name={STATE_MARK[state] ?? "none"} />
              {state}
            </span>
          ))}
        </div>
      </nav>
      <section
        className="flex min-h-0 min-w-0 flex-col overflow-auto"
        aria-label={t("{0} in {1}", pool.backend, pool.environment)}
      >
        <div className="flex items-center gap-2 px-5 pt-3 pb-2">
          <div className="min-w-0">
            <h2 className="flex items-center gap-2 text-[20px] leading-6 font-semibold">
              {pool.backend}
              <EnvTag name={pool.environment} isProtected={pool.protected} />
              <span className={`flex items-center gap-1.5 text-sm ${tone}`}>
                <Mark name={STATE_MARK[pool.state] ?? "none"} />
                {pool.state}
              </span>
            </h2>
            <p className="truncate text-xs text-ink2">
              {rich(
                "Used by {0}{1}{2}",
                pool.services.join(", ") || t("no service"),
                pool.credential && t(", signed on with {0}", pool.credential),
                pool.effective && t(", settings in effect since {0} UTC", pool.effective.slice(11, 19)),
              )}
            </p>
          </div>
          <span className="ml-auto flex gap-2">
            {(
              [
                ["stopped", "start", t("Start"), Play],
                ["", "recycle", t("Recycle"), RotateCw],
              ] as const
            ).map(
              ([when, action, word, Icon]) =>
                (when === "" || pool.state === when) && (
                  <button
                    key={action}
                    type="button"
                    className="btn"
                    aria-disabled={!may || act.busy}
                    onClick={() => {
                      if (may) void doIt(action);
                    }}
                  >
                    <Icon size={15} strokeWidth={1.75} />
                    {word}
                  </button>
                ),
            )}
            {pool.state !== "stopped" && (
              <button
                type="button"
                className="btn btn-bad"
                aria-disabled={!may}
                onClick={() => {
                  if (may) setAsking("stop");
                }}
              >
                {rich("{0}Stop", <Square size={15} strokeWidth={1.75} />)}
              </button>
            )}
            <button
              type="button"
              className="btn btn-main"
              aria-disabled={!may || act.busy}
              onClick={() => {
                if (may) void check();
              }}
            >
              {rich("{0}Check the way", <PlugZap size={15} strokeWidth={1.75} />)}
            </button>
          </span>
        </div>
        {act.problems.length > 0 && (
          <div className="px-5 pb-2">
            <Problems problems={act.problems} />
          </div>
        )}
        <div className="mx-5 mb-2 border-y border-line py-2 text-sm">
          {pool.endpoints
            .filter((one) => one.circuit !== "closed")
            .map((one) => (
              <p key={one.endpoint} className="strip mb-2">
                <Mark name="risk" />
                <span>
                  {rich(
                    "{0} {1}. It is tried again by itself.",
                    <b>{rich("{0} is left alone.", one.endpoint)}</b>,
                    one.reason,
                  )}
                </span>
              </p>
            ))}
          {pool.advice.map((words) => (
            <p key={words} className="text-ink2">
              {words}
            </p>
          ))}
        </div>
        <dl className="grid grid-cols-7 gap-x-4 px-5 pb-2">
          {(
            [
              [t("Kept warm"), pool.settings.min_size],
              [t("At most"), pool.settings.max_size],
              [t("Close when idle"), span(pool.settings.max_idle)],
              [t("Lifetime"), span(pool.settings.max_lifetime)],
              [t("A call waits"), span(pool.settings.timeout)],
              [t("Requests"), grouped(count.requests_num)],
              [t("Had to wait"), `${grouped(count.requests_queued)}`],
            ] as const
          ).map(([word, value]) => (
            <div key={word}>
              <dt className="text-xs text-ink2">{word}</dt>
              <dd className="font-semibold">{value}</dd>
            </div>
          ))}
        </dl>
        <h3 className="flex items-baseline gap-2 border-t border-line px-5 pt-2 text-[15px] font-semibold">
          {rich(
            "Sessions by age{0}",
            <span className="text-xs font-normal text-ink2">
              {rich("{0} in use, {1} warm; oldest first", used, count.pool_available)}
            </span>,
          )}
        </h3>
        <SessionPosts sessions={pool.sessions} lifetime={pool.settings.max_lifetime} />
        <SessionTable pool={pool} may={may} onChange={reload} />
        <Endpoints pool={pool} />
      </section>
      <Panel
        title={t("Check of {0} in {1}", pool.backend, pool.environment)}
        open={checks !== null}
        onClose={() => setChecks(null)}
        wide
      >
        {checks && <Checks results={checks} />}
      </Panel>
      <Panel
        title={t("Stop {0} in {1}", pool.backend, pool.environment)}
        open={asking !== null}
        onClose={() => setAsking(null)}
      >
        <p>
          {rich(
            "Calls that need this backend are refused until the pool is started again. {0} in flight now.",
            plural(used, "call"),
          )}
        </p>
        <div className="mt-4 flex gap-2">
          <button type="button" className="btn btn-bad" aria-disabled={act.busy} onClick={() => void doIt("stop")}>
            {t("Stop and let calls end")}
          </button>
          <button type="button" className="btn btn-bad" aria-disabled={act.busy} onClick={() => void doIt("cut")}>
            {t("Stop and cut them")}
          </button>
        </div>
      </Panel>
    </div>
  );
}
