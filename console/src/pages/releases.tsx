/** Releases of one service: differences and verdict, the gates, deploy, share, roll back, history. */
import { useState } from "react";
import { Link } from "wouter";
import { useAddress } from "../address";
import { steps, useKeys } from "../hotkeys";
import { AffectedCases } from "../releases/cases";
import type { Comparison, Overview, ServiceDetail } from "../api";
import { useLens, within } from "../lens";
import { useLoad } from "../load";
import { Problems, Segments, Select } from "../parts/controls";
import { Diff } from "../parts/diff";
import { EnvTag, Mark, STATE_MARK } from "../parts/marks";
import { DeployPanel } from "../releases/deploy";
import { MakeRelease } from "../releases/make";
import { grouped, plural, when } from "../formats";
import { rich, t } from "../text";

const DRAFT = "draft";

export default function ReleasesPage() {
  const [view] = useLens();
  const [search, setSearch] = useAddress();
  const overview = useLoad<Overview>("/overview", 10);
  const name = search.get("service") ?? overview.data?.services[0]?.name ?? "";
  const detail = useLoad<ServiceDetail>(name ? `/services/${encodeURIComponent(name)}` : null, 5);
  const [tab, setTab] = useState("wsdl");
  const [at, setAt] = useState(0);
  const releases = detail.data?.releases ?? [];
  const live =
    detail.data?.deployments.findLast((one) => one.protected && one.release !== undefined) ??
    detail.data?.deployments.findLast((one) => one.release !== undefined);
  const newest = releases[0];
  // What waits: a draft that was edited, else the newest release; seen from what is live, or from the release before.
  const next = search.get("new") ?? (detail.data?.draft === "edited" ? DRAFT : String(newest?.number ?? DRAFT));
  const before = releases.find((one) => String(one.number) !== next);
  const old =
    search.get("old") ??
    String(live?.release !== undefined && String(live.release) !== next ? live.release : (before?.number ?? next));
  const comparison = useLoad<Comparison>(
    detail.data && newest ? `/services/${encodeURIComponent(name)}/comparison?old=${old}&new=${next}` : null,
    10,
  );
  const set = (key: string, value: string) => {
    setAt(0);
    setSearch(key === "service" ? { service: value, old: null, new: null } : { [key]: value });
  };
  const changes = comparison.data?.changes ?? [];
  const change = changes[at];

  const focusOn = (event: KeyboardEvent) => document.querySelector<HTMLElement>(`[data-to="${event.key}"]`)?.focus();
  useKeys({ ...steps(changes, change, (_, index) => setAt(index)), "Shift+D": focusOn, "Shift+R": focusOn });

  if (overview.data && !overview.data.services.length)
    return (
      <div className="px-5 py-4">
        <h1 className="text-[20px] leading-6 font-semibold">{t("Releases")}</h1>
        <p className="mt-1 text-ink2">{t("No services yet.")}</p>
      </div>
    );
  if (detail.error && !detail.data)
    return (
      <div className="p-5">
        <Problems problems={detail.error.problems} />
      </div>
    );
  const service = detail.data;
  if (!service) return null;
  const versions = [
    ...(service.draft !== "removed" ? [{ value: DRAFT, word: t("draft") }] : []),
    ...releases.map((one) => ({
      value: String(one.number),
      word: `r${one.number}${one.version > 1 ? t(", version {0}", one.version) : ""}`,
    })),
  ];
  const groups = [...new Set(changes.map((one) => one.operation))];
  const release = releases.find((one) => String(one.number) === next);
  return (
    <>
      <div className="flex items-center gap-3 border-b border-line px-5 py-2">
        <div className="min-w-0">
          <h1 className="text-[20px] leading-6 font-semibold">
            {service.name} {release ? `r${release.number}` : t("draft")}
          </h1>
          <p className="truncate text-xs text-ink2">
            {release
              ? t(
                  "Released by {0}, {1}{2}",
                  release.author,
                  when(release.at),
                  release.notes ? `: ${release.notes}` : "",
                )
              : t("Not released yet")}
            {release?.consent && t(". Consent: {0}", release.consent)}
          </p>
        </div>
        <span className="ml-auto flex items-center gap-1.5 text-sm whitespace-nowrap">
          <Mark name={STATE_MARK[service.stage] ?? "none"} />
          <b className="font-semibold">{service.stage}</b>
        </span>
        <div className="w-40">
          <Select
            label={t("Service")}
            value={name}
            onChange={(value) => set("service", value)}
            options={(overview.data?.services ?? []).map((one) => ({ value: one.name, word: one.name }))}
          />
        </div>
        <Link className="btn" href={within(`/services/${service.name}`, view)}>
          {t("Parameters and contract")}
        </Link>
      </div>
      <div className="grid min-h-0 grow grid-cols-[256px_minmax(0,1fr)_320px]">
        <nav aria-label={t("Changes")} className="flex min-h-0 flex-col overflow-auto border-r border-line bg-inset">
          <div className="grid grid-cols-[1fr_auto_1fr] items-center gap-1.5 px-4 py-2">
            <Select label={t("From")} value={old} onChange={(value) => set("old", value)} options={versions} />
            <span className="text-ink2">{t("to")}</span>
            <Select label={t("To")} value={next} onChange={(value) => set("new", value)} options={versions} />
          </div>
          {comparison.error && (
            <div className="px-4 py-2">
              <Problems problems={comparison.error.problems} />
            </div>
          )}
          {groups.map((group) => (
            <section key={group} aria-label={group || t("the whole service")}>
              <h2 className="flex border-t border-line bg-frame/40 px-4 py-1.5 font-mono text-[12.5px]">
                {group || t("whole service")}
                <span className="ml-auto text-ink2">{changes.filter((one) => one.operation === group).length}</span>
              </h2>
              {changes.map(
                (one, index) =>
                  one.operation === group && (
                    <button
                      key={index}
                      type="button"
                      aria-pressed={index === at}
                      onClick={() => setAt(index)}
                      className={`flex w-full gap-2 border-t border-line px-4 py-1.5 text-left ${index === at ? "chosen" : ""}`}
                    >
                      <Mark name={STATE_MARK[one.verdict] ?? "none"} label={one.verdict} className="mt-0.5" />
                      <span className="min-w-0">
                        <span className="block font-semibold">{one.message}</span>
                        <span className="block truncate text-xs text-ink2">{one.place}</span>
                      </span>
                    </button>
                  ),
              )}
            </section>
          ))}
          {comparison.data && !changes.length && (
            <p className="border-t border-line px-4 py-2 text-ink2">
              {old === next ? t("This is one and the same version.") : t("Callers notice nothing.")}
            </p>
          )}
          {comparison.data && comparison.data.definitions.length > 0 && (
            <p className="border-t border-line px-4 py-2 text-xs text-ink2">
              {rich(
                "{0} changed inside: {1}.",
                plural(comparison.data.definitions.length, "definition"),
                comparison.data.definitions.map((one) => one.path.split("/").at(-1)?.replace(".yaml", "")).join(", "),
              )}
            </p>
          )}
        </nav>
        <section className="flex min-h-0 min-w-0 flex-col overflow-auto">
          <div className="flex items-center gap-3 border-b border-line px-5 py-1.5">
            <Segments
              label={t("Difference of")}
              value={tab}
              onChange={setTab}
              options={[
                { value: "wsdl", word: t("Contract") },
                { value: "definitions", word: t("Definitions") },
                { value: "cases", word: t("Test cases") },
              ]}
            />
            {comparison.data && (
              <span className="ml-auto flex items-center gap-1.5 text-sm">
                <Mark name={STATE_MARK[comparison.data.verdict] ?? "none"} />
                <b className="font-semibold">{comparison.data.verdict}</b>
              </span>
            )}
          </div>
          {tab === "wsdl" &&
            comparison.data &&
            (comparison.data.contract.length ? (
              <Diff lines={comparison.data.contract} label={t("Difference of the contract")} />
            ) : (
              <p className="px-5 py-3 text-ink2">{t("The contract is the same.")}</p>
            ))}
          {tab === "definitions" &&
            comparison.data?.definitions.map((one) => (
              <div key={one.path}>
                <h3 className="flex items-center gap-2 px-5 pt-2 pb-1 font-mono text-[12.5px]">
                  {one.path}
                  <span className="text-ink2">{one.action}</span>
                </h3>
                <Diff lines={one.lines} label={one.path} />
              </div>
            ))}
          {tab === "cases" && comparison.data && <AffectedCases cases={comparison.data.cases} />}
          {change && change.verdict !== "compatible" && (
            <div className="strip">
              <Mark name={STATE_MARK[change.verdict] ?? "none"} />
              <p>
                <b>{change.message}</b> {change.before && <>{rich("Before: {0}.", change.before)} </>}
                {change.after && <>{rich("After: {0}.", change.after)} </>}
                {change.callers.length ? (
                  <>{rich("Used in the last 30 days by {0}.", change.callers.join(", "))}</>
                ) : (
                  <>{t("Nobody used it in the last 30 days.")}</>
                )}
              </p>
            </div>
          )}
          <h2 className="px-5 pt-4 pb-1 text-[15px] font-semibold">{t("Deployments")}</h2>
          <table className="tbl">
            <thead>
              <tr>
                <th scope="col">{t("When")}</th>
                <th scope="col">{t("Release")}</th>
                <th scope="col">{t("Environment")}</th>
                <th scope="col">{t("How")}</th>
                <th scope="col">{t("By")}</th>
                <th scope="col">{t("Came out")}</th>
              </tr>
            </thead>
            <tbody>
              {service.history.map((one, index) => (
                <tr key={index}>
                  <th scope="row" className="whitespace-nowrap">
                    {when(one.at)}
                  </th>
                  <td className="font-semibold">
                    r{one.release}
                    {one.share < 100 && ` ${one.share} %`}
                  </td>
                  <td>
                    <EnvTag
                      name={one.environment}
                      isProtected={service.deployments.some(
                        (place) => place.environment === one.environment && place.protected,
                      )}
                    />
                  </td>
                  <td>{one.how}</td>
                  <td>{one.author}</td>
                  <td>
                    <span className="flex items-center gap-1.5 whitespace-nowrap">
                      <Mark name={one.ended_at ? "stopped" : "serving"} />
                      {one.ended_at ? t("replaced {0}", when(one.ended_at)) : t("in force")}
                      {one.reason && t(", consent: {0}", one.reason)}
                    </span>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {!service.history.length && <p className="px-5 py-2 text-ink2">{t("Never deployed.")}</p>}
        </section>
        <aside
          className="flex min-h-0 flex-col overflow-auto border-l border-line"
          aria-label={t("Verdict and deployment")}
        >
          {comparison.data && comparison.data.callers.length > 0 && (
            <table className="tbl">
              <thead>
                <tr>
                  <th scope="col">{t("Caller")}</th>
                  <th scope="col" className="n">
                    {t("In 30 days")}
                  </th>
                  <th scope="col">{t("Verdict")}</th>
                </tr>
              </thead>
              <tbody>
                {comparison.data.callers.map((one) => (
                  <tr key={one.caller}>
                    <th scope="row" className="font-semibold whitespace-nowrap">
                      {one.caller}
                    </th>
                    <td className="n">{grouped(one.calls)}</td>
                    <td>
                      <span className="flex items-center gap-1.5">
                        <Mark name={STATE_MARK[one.verdict] ?? "none"} />
                        {one.verdict}
                      </span>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {comparison.data?.callers.length === 0 && (
            <p className="px-5 py-3 text-ink2">{t("Nobody called this service in the last 30 days.")}</p>
          )}
          <div className="mt-auto" />
          {next === DRAFT ? (
            <MakeRelease
              service={service}
              breaking={comparison.data?.verdict === "breaking"}
              onMade={(number) => {
                detail.reload();
                set("new", String(number));
              }}
            />
          ) : (
            release && (
              <DeployPanel
                key={`${service.name}-${release.number}`}
                service={service}
                release={release.number}
                onDone={() => {
                  detail.reload();
                  comparison.reload();
                }}
              />
            )
          )}
        </aside>
      </div>
    </>
  );
}
