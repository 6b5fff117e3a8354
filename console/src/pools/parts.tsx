/** Parts of the pools page: posts by age, the table of sessions, endpoints, and the outcome of a check. */
import { ask, type CheckResult, type PoolSession, type PoolView } from "../api";
import { useAct } from "../act";
import { ActsHead, Problems } from "../parts/controls";
import { Mark, STATE_MARK } from "../parts/marks";
import { span, took } from "../formats";
import { rich, t } from "../text";

export function SessionPosts({ sessions, lifetime }: { sessions: PoolSession[]; lifetime: number }) {
  const width = sessions.length > 16 ? 18 : 38;
  const height = 84;
  const whole = Math.max(915, sessions.length * (width + 10));
  return (
    <div className="shrink-0 overflow-x-auto px-5 py-2">
      <svg
        width={whole}
        height={height + 18}
        role="img"
        aria-label={t("{0} sessions by age; the line is the lifetime of {1}", sessions.length, span(lifetime))}
      >
        <path d={`M0 14H${whole}`} stroke="var(--edge)" strokeDasharray="4 3" />
        <text x={whole} y="9" textAnchor="end" fontSize="12" fill="var(--ink2)">
          {t("lifetime {0}, then closed", span(lifetime))}
        </text>
        {sessions.map((one, index) => {
          const tall = Math.max(3, Math.min(1, one.age / lifetime) * (height - 14));
          const x = index * (width + 10);
          const solid = one.state === "in use" || one.state === "draining";
          return (
            <g key={one.session}>
              <rect
                x={x + 0.75}
                y={height - tall}
                width={width - 1.5}
                height={tall}
                fill={
                  one.state === "in use" ? "var(--post)" : one.state === "draining" ? "var(--warnwash)" : "var(--sheet)"
                }
                stroke={one.state === "draining" ? "var(--warn)" : "var(--post)"}
                strokeWidth={solid ? 1.5 : 1}
                strokeDasharray={one.state === "opening" ? "3 2" : undefined}
              />
              <text x={x + width / 2} y={height + 14} textAnchor="middle" fontSize="12" fill="var(--ink2)">
                {one.session}
              </text>
            </g>
          );
        })}
        <path d={`M0 ${height}H${whole}`} stroke="var(--water)" strokeWidth="2" />
      </svg>
    </div>
  );
}

export function SessionTable({ pool, may, onChange }: { pool: PoolView; may: boolean; onChange: () => void }) {
  const act = useAct();
  const evict = (session: number) =>
    act.run(async () => {
      await ask("DELETE", `/pools/${pool.environment}/${pool.backend}/sessions/${session}`);
      onChange();
    });
  return (
    <>
      {act.problems.length > 0 && (
        <div className="px-5 py-2">
          <Problems problems={act.problems} />
        </div>
      )}
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col">{t("Session")}</th>
            <th scope="col">{t("State")}</th>
            <th scope="col">{t("Endpoint")}</th>
            <th scope="col">{t("Identity")}</th>
            <th scope="col" className="n">
              {t("Age")}
            </th>
            <th scope="col" className="n">
              {t("Closes in")}
            </th>
            <th scope="col" className="n">
              {t("Served")}
            </th>
            <th scope="col">{t("Now")}</th>
            <th scope="col">{t("Caller")}</th>
            <th scope="col" className="n">
              {t("For")}
            </th>
            <ActsHead />
          </tr>
        </thead>
        <tbody>
          {pool.sessions.map((one) => (
            <tr key={one.session} className="whitespace-nowrap">
              <th scope="row" className="font-semibold">
                {one.session}
              </th>
              <td>
                <span className="flex items-center gap-1.5">
                  <Mark name={STATE_MARK[one.state] ?? "none"} />
                  {one.state}
                </span>
              </td>
              <td>{one.endpoint}</td>
              <td>{one.identity || <span className="text-ink3">{t("none")}</span>}</td>
              <td className="n">{span(one.age)}</td>
              <td className="n">{span(one.expires_in)}</td>
              <td className="n">{one.uses}</td>
              <td className="font-mono text-[12.5px]">{one.operation || <span className="text-ink3">–</span>}</td>
              <td>{one.caller || <span className="text-ink3">–</span>}</td>
              <td className="n">{one.held_for === null ? "" : took(one.held_for * 1e6)}</td>
              <td>
                <button
                  type="button"
                  className="act"
                  aria-disabled={!may || act.busy}
                  title={may ? t("Close it when its call has ended") : t("Closing needs the role operator")}
                  onClick={() => {
                    if (may) void evict(one.session);
                  }}
                >
                  {t("Close")}
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {!pool.sessions.length && (
        <p className="px-5 py-2 text-ink2">
          {pool.state === "asleep" ? t("Asleep: the next call opens a session.") : t("No session is open.")}
        </p>
      )}
    </>
  );
}

export function Endpoints({ pool }: { pool: PoolView }) {
  return (
    <>
      <h3 className="px-5 pt-4 pb-1 text-[15px] font-semibold">{t("Endpoints")}</h3>
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col">{t("Endpoint")}</th>
            <th scope="col">{t("Address")}</th>
            <th scope="col" className="n">
              {t("Priority")}
            </th>
            <th scope="col" className="n">
              {t("Weight")}
            </th>
            <th scope="col">{t("Circuit")}</th>
            <th scope="col" className="n">
              {t("Sessions")}
            </th>
            <th scope="col" className="n">
              {t("Connect")}
            </th>
            <th scope="col" className="n">
              {t("Errors")}
            </th>
            <th scope="col" className="n">
              {t("Lost")}
            </th>
            <th scope="col">{t("Last check")}</th>
          </tr>
        </thead>
        <tbody>
          {pool.endpoints.map((one) => (
            <tr key={one.endpoint} className="whitespace-nowrap">
              <th scope="row" className="font-semibold">
                {one.endpoint}
              </th>
              <td className="font-mono text-[12.5px]">{one.address}</td>
              <td className="n">{one.priority}</td>
              <td className="n">{one.weight}</td>
              <td>
                <span className="flex items-center gap-1.5">
                  <Mark name={STATE_MARK[one.circuit] ?? "none"} />
                  {one.circuit}
                </span>
              </td>
              <td className="n">{one.sessions}</td>
              <td className="n">{rich("{0}\u00a0ms", one.connect_ms.toFixed(1))}</td>
              <td className="n">{one.connect_errors}</td>
              <td className="n">{one.lost}</td>
              <td className="text-ink2">
                {one.checked_ago === null ? t("not yet") : t("{0} ago", span(one.checked_ago))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

export function Checks({ results }: { results: CheckResult[] }) {
  return (
    <>
      {results.map((one) => {
        const failed = one.stages.find((stage) => stage.outcome === "failed");
        return (
          <section key={one.endpoint} className="mb-3" aria-label={t("Check of {0}", one.endpoint)}>
            <h3 className="mb-1 flex items-center gap-2 font-semibold">
              <Mark name={one.passed ? "serving" : "fault"} />
              {one.endpoint} <span className="font-mono text-[12.5px] font-normal text-ink2">{one.address}</span>
            </h3>
            <table className="tbl">
              <tbody>
                {one.stages.map((stage) => (
                  <tr key={stage.stage}>
                    <th scope="row" className="w-28">
                      {stage.stage}
                    </th>
                    <td className="w-28">
                      <span className="flex items-center gap-1.5 whitespace-nowrap">
                        <Mark name={STATE_MARK[stage.outcome] ?? "none"} />
                        {stage.outcome}
                      </span>
                    </td>
                    <td className="text-ink2">{stage.detail}</td>
                    <td className="n whitespace-nowrap">
                      {stage.ms ? <>{rich("{0}\u00a0ms", stage.ms.toFixed(1))}</> : ""}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            {failed?.problem && (
              <div className="mt-2">
                <Problems problems={[failed.problem]} />
              </div>
            )}
          </section>
        );
      })}
    </>
  );
}
