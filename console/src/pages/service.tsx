/** One service: where each version is, operations with their parameters, the contract, and readiness. */
import { Play } from "lucide-react";
import { Tabs } from "radix-ui";
import { useEffect, useState } from "react";
import { Link, useLocation } from "wouter";
import { useAddress } from "../address";
import type { Finding, OperationShape, Problem, ServiceDetail } from "../api";
import { useKeys, steps } from "../hotkeys";
import { kindOf } from "../kinds";
import { ALL, useLens, within } from "../lens";
import { useLoad } from "../load";
import { CopyButton, NotLoaded, Problems } from "../parts/controls";
import { EnvTag, Gate, Mark, STATE_MARK } from "../parts/marks";
import { Findings } from "../parts/findings";
import { Xml } from "../parts/xml";
import { Around } from "../services/around";
import { OperationView } from "../services/operation";
import { mayAtLeast, useSession } from "../session";
import { plural, when } from "../formats";
import { rich, t } from "../text";

export default function ServicePage({ name }: { name: string }) {
  const [view] = useLens();
  const may = mayAtLeast(useSession(), "integrator");
  const [, go] = useLocation();
  const [search, setSearch] = useAddress();
  const { data, error, reload } = useLoad<ServiceDetail>(`/services/${encodeURIComponent(name)}`, 10);
  const findings = useLoad<Finding[]>(
    data && data.draft !== "removed"
      ? `/services/${encodeURIComponent(name)}/review${view === ALL ? "" : `?environment=${view}`}`
      : null,
  );
  // With one environment in view, what is live there is shown; else the draft. The head of the pane says which.
  const place = data?.deployments.find((one) => one.environment === view && one.answers);
  const live = useLoad<OperationShape[]>(
    place ? `/services/${encodeURIComponent(name)}/operations?environment=${place.environment}` : null,
    10,
  );
  const operations = (place ? live.data : data?.operations) ?? [];
  const operation = operations.find((one) => one.name === search.get("operation")) ?? operations[0];
  const choose = (next: string) => setSearch({ operation: next });

  useKeys({
    ...steps(operations, operation, (one) => choose(one.name)),
    t: () => operation && go(within(`/tests?service=${name}&operation=${operation.name}`, view)),
  });

  if (error && !data) return <NotLoaded error={error} />;
  if (!data) return null;
  const kind = kindOf((operation ?? data.operations[0])?.source?.kind);
  const source = operation?.source && kind.link(operation.source.name);
  const stops = findings.data?.filter((one) => one.severity === "error").length ?? 0;
  return (
    <>
      <div className="flex items-center gap-3 border-b border-line px-5 py-2">
        <kind.icon size={18} strokeWidth={1.75} className="text-ink3" aria-label={kind.word} />
        <div className="min-w-0">
          <h1 className="text-[20px] leading-6 font-semibold">{data.name}</h1>
          <p className="truncate text-xs text-ink2">{data.description}</p>
        </div>
        <div className="ml-auto flex shrink-0 items-center" role="group" aria-label={t("Where each version is")}>
          <Reach service={data} view={view} stops={stops} />
        </div>
        <Link
          href={within(`/tests?service=${data.name}${operation ? `&operation=${operation.name}` : ""}`, view)}
          className="btn ml-1"
        >
          {rich("{0}Test{1}", <Play size={15} strokeWidth={1.75} />, <kbd className="kbd-in">T</kbd>)}
        </Link>
      </div>
      <div className="grid min-h-0 grow grid-cols-[184px_minmax(0,1fr)_320px]">
        <nav aria-label={t("Operations")} className="min-h-0 overflow-auto border-r border-line bg-inset">
          <h2 className="px-4 pt-2.5 pb-1.5 font-semibold">{t("Operations")}</h2>
          {operations.map((one) => (
            <button
              key={one.name}
              type="button"
              aria-pressed={one === operation}
              onClick={() => choose(one.name)}
              className={`block w-full border-t border-line px-4 py-1.5 text-left last:border-b ${one === operation ? "chosen" : ""}`}
            >
              <span className="block truncate font-semibold">{one.name}</span>
              <span className="block text-xs text-ink2">
                {rich(
                  "{0} in, {1} out{2}",
                  one.input.length,
                  one.output.length,
                  one.faults.length ? `, ${plural(one.faults.length, "fault")}` : "",
                )}
              </span>
            </button>
          ))}
          {!operations.length && (!place || live.data) && <p className="px-4 text-ink2">{t("No operations yet.")}</p>}
          {data.path && (
            <p className="px-4 pt-3">
              <Link className="act" href={within(`/definitions?file=${encodeURIComponent(data.path)}`, view)}>
                {t("Edit as text")}
              </Link>
            </p>
          )}
          {source && (
            <p className="px-4 pt-1">
              <Link className="act" href={within(source.path, view)}>
                {source.word}
              </Link>
            </p>
          )}
          <h2 className="px-4 pt-4 pb-1 font-semibold">{t("Identity")}</h2>
          <dl className="px-4 text-xs">
            <dt className="text-ink2">{t("Namespace")}</dt>
            <dd className="mb-1.5 font-mono break-all">{data.namespace}</dd>
            {data.owner && (
              <>
                <dt className="text-ink2">{t("Owner")}</dt>
                <dd>{data.owner}</dd>
              </>
            )}
            {data.request && (
              <>
                <dt className="mt-1.5 text-ink2">{t("Made of the request")}</dt>
                <dd>
                  <Link className="act" href={within(`/definitions/requests?request=${data.request}`, view)}>
                    {data.request}
                  </Link>
                </dd>
              </>
            )}
          </dl>
          <Around
            service={data}
            may={may}
            onChanged={() => {
              reload();
              findings.reload();
            }}
          />
        </nav>
        <section className="min-h-0 overflow-auto">
          {!place && data.problems.length > 0 && (
            <div className="px-5 py-3">
              <Problems problems={data.problems} />
            </div>
          )}
          {operation && (
            <OperationView
              operation={operation}
              service={data.name}
              onChanged={() => {
                reload();
                findings.reload();
              }}
              of={
                place ? (
                  <>
                    <EnvTag name={place.environment} isProtected={place.protected} />
                    <span>{rich("release {0}, as it is live", place.release)}</span>
                  </>
                ) : (
                  <>
                    <Mark name="draft" />
                    <span>
                      {rich(
                        "the draft{0}",
                        data.draft === "edited"
                          ? t(", edited since the newest release")
                          : t(", same as the newest release"),
                      )}
                    </span>
                  </>
                )
              }
            />
          )}
        </section>
        <aside className="flex min-h-0 flex-col border-l border-line">
          <Aside
            service={data}
            findings={findings.data}
            failed={findings.error?.problems ?? []}
            stops={stops}
            view={view}
            onMended={() => {
              reload();
              findings.reload();
            }}
          />
        </aside>
      </div>
    </>
  );
}

function Reach({ service, view, stops }: { service: ServiceDetail; view: string; stops: number }) {
  const newest = service.releases[0];
  return (
    <>
      <div className={`reach ${view === ALL ? "reach-on" : ""}`}>
        <div className="flex items-center gap-1.5 text-xs text-ink2">
          <span className="font-medium">{t("Draft")}</span>
          {newest && <span className="ml-auto">{rich("newest r{0}", newest.number)}</span>}
        </div>
        <div className="mt-[3px] flex items-center gap-1.5">
          <Mark name={service.draft === "edited" ? "draft" : "none"} />
          <span className="text-[13px] leading-4 font-semibold">
            {service.draft === "edited"
              ? newest
                ? t("edited, not released")
                : t("never released")
              : service.draft === "removed"
                ? t("removed")
                : t("no changes")}
          </span>
        </div>
      </div>
      {service.deployments
        .filter((one) => one.version === service.version || one.release !== undefined)
        .map((one, index) => (
          <div key={one.environment + one.segment} className="contents">
            <Gate open={one.release !== undefined && (index > 0 || stops === 0)} />
            <div className={`reach ${view === one.environment ? "reach-on" : ""}`}>
              <div className="flex items-center gap-1.5 text-xs text-ink2">
                <EnvTag name={one.environment} isProtected={one.protected} />
                <span className="ml-auto">{one.since ? when(one.since) : ""}</span>
              </div>
              <div className="mt-[3px] flex items-center gap-1.5">
                <Mark name={STATE_MARK[one.state] ?? "none"} />
                <span className="text-[13px] leading-4 font-semibold whitespace-nowrap">
                  {one.parts
                    ?.map((part) => `r${part.release}${part.share < 100 ? ` ${part.share} %` : ""}`)
                    .join(" + ")}
                </span>
                <span className="text-xs text-ink2">
                  {one.state}
                  {one.release !== undefined && !one.newest ? t(", not the newest") : ""}
                </span>
              </div>
            </div>
          </div>
        ))}
    </>
  );
}

function Aside({
  service,
  findings,
  failed,
  stops,
  view,
  onMended,
}: {
  service: ServiceDetail;
  findings: Finding[] | undefined;
  failed: Problem[];
  stops: number;
  view: string;
  onMended: () => void;
}) {
  const may = mayAtLeast(useSession(), "integrator");
  const [source, setSource] = useState("");
  const place = service.deployments.find((one) => one.environment === view && one.release !== undefined);
  const path = `/api/v1/services/${encodeURIComponent(service.name)}/contract${place ? `?environment=${place.environment}` : ""}`;
  const digest = service.draft + (service.releases[0]?.digest ?? "");
  useEffect(() => {
    const stop = new AbortController();
    fetch(path, { signal: stop.signal })
      .then(
        (answer) => (answer.ok ? answer.text() : ""),
        () => "",
      )
      .then(setSource, () => undefined);
    return () => stop.abort();
  }, [path, digest]);
  return (
    <Tabs.Root defaultValue="contract" className="flex min-h-0 grow flex-col">
      <Tabs.List className="flex items-center gap-5 border-b border-line px-4" aria-label={t("Beside the parameters")}>
        <Tabs.Trigger value="contract" className="tab">
          {t("Contract")}
        </Tabs.Trigger>
        <Tabs.Trigger value="readiness" className="tab">
          {rich("Readiness{0}", findings ? ` ${findings.length}` : "")}
        </Tabs.Trigger>
        <Tabs.Trigger value="releases" className="tab">
          {t("Releases")}
        </Tabs.Trigger>
        <span className="ml-auto">
          <CopyButton text={source} what={t("the contract")} />
        </span>
      </Tabs.List>
      <Tabs.Content value="contract" className="flex min-h-0 grow flex-col">
        <p className="px-4 py-1.5 text-xs text-ink2">
          {place
            ? t("As callers read it in {0}, release {1}", place.environment, place.release ?? "–")
            : t("Of the draft, as callers will read it")}
        </p>
        {source ? (
          <Xml source={source} label={t("Contract")} />
        ) : (
          <p className="px-4 text-ink2">{t("No contract can be written yet; Readiness says why.")}</p>
        )}
      </Tabs.Content>
      <Tabs.Content value="readiness" className="min-h-0 overflow-auto">
        <div className="flex items-center gap-2 px-4 py-2">
          <Mark name={findings ? (stops ? "fault" : "serving") : "none"} />
          <span className="font-semibold">
            {!findings
              ? service.draft === "removed"
                ? t("There is no draft to look at.")
                : t("Not looked at yet")
              : stops
                ? t(stops === 1 ? "{0} stops the release" : "{0} stop the release", plural(stops, "finding"))
                : t("Nothing stops the release")}
          </span>
        </div>
        {failed.length > 0 && (
          <div className="px-4">
            <Problems problems={failed} />
          </div>
        )}
        <Findings
          findings={findings ?? []}
          service={service.name}
          environment={view === ALL ? "" : view}
          may={may}
          onMended={onMended}
        />
        {view === ALL && (
          <p className="border-t border-line px-4 py-2 text-xs text-ink2">
            {t("Choose an environment at View to review running it there.")}
          </p>
        )}
      </Tabs.Content>
      <Tabs.Content value="releases" className="min-h-0 overflow-auto">
        {service.releases.map((one) => (
          <div key={one.number} className="border-b border-line px-4 py-2">
            <div className="flex items-center gap-2">
              <span className="font-semibold">r{one.number}</span>
              {service.deployments
                .filter((at) => at.release === one.number)
                .map((at) => (
                  <EnvTag key={at.environment} name={at.environment} isProtected={at.protected} />
                ))}
              <span className="ml-auto text-xs text-ink3">
                {one.author}, {when(one.at)}
              </span>
            </div>
            {one.notes && <p className="text-ink2">{one.notes}</p>}
            <p className="font-mono text-xs text-ink3">{one.digest.slice(0, 16)}</p>
          </div>
        ))}
        {!service.releases.length && <p className="px-4 py-2 text-ink2">{t("No release yet.")}</p>}
        <p className="px-4 py-2">
          <Link className="act" href={within(`/releases?service=${service.name}`, view)}>
            {t("Compare, release and deploy →")}
          </Link>
        </p>
      </Tabs.Content>
    </Tabs.Root>
  );
}
