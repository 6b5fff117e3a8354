/** Services by environment, traffic, addresses ready to copy, recent calls. */
import { Funnel, Play } from "lucide-react";
import { useMemo, useState } from "react";
import { Link, useLocation } from "wouter";
import { useAddress } from "../address";
import { steps, useKeys } from "../hotkeys";
import { kindsOf } from "../kinds";
import type { Call, EnvironmentInfo, Overview, Place, ServiceRow } from "../api";
import { ALL, useLens, within } from "../lens";
import { useLoad } from "../load";
import { CopyButton, NotLoaded, Segments } from "../parts/controls";
import { EnvTag, Mark, Posts, STATE_MARK } from "../parts/marks";
import { clock, grouped, percent, plural, took, when } from "../formats";
import { rich, t } from "../text";

function sumSlices(places: Place[]): [number, number][] {
  const sum: [number, number][] = Array.from({ length: 60 }, () => [0, 0]);
  for (const place of places)
    place.figures?.slices.forEach(([calls, faults], index) => {
      const slice = sum[index];
      if (slice) {
        slice[0] += calls;
        slice[1] += faults;
      }
    });
  return sum;
}

function seen(service: ServiceRow, view: string): Place[] {
  return service.deployments.filter((one) => view === ALL || one.environment === view);
}

/** Whether something that is deployed is not as it should be. */
const ails = (at: Place) => at.state !== "serving" && at.state !== "not deployed";

function headline(services: ServiceRow[], environments: EnvironmentInfo[], view: string): [string, string] {
  const place = view !== ALL ? view : (environments.findLast((one) => one.protected) ?? environments.at(-1))?.name;
  if (!place) return [t("No environments yet"), t("Define one in a YAML file, then run: bricola apply FOLDER")];
  const here = services.flatMap((one) =>
    one.deployments.filter((at) => at.environment === place && at.state !== "not deployed").map((at) => ({ one, at })),
  );
  const down = here.filter(({ at }) => ails(at) && at.state !== "at risk").map(({ one }) => one.name);
  const risky = here.filter(({ at }) => at.state === "at risk").map(({ one }) => one.name);
  const edited = services.filter((one) => one.draft === "edited").map((one) => one.name);
  const behind = here.filter(({ at }) => !at.newest && at.parts?.length === 1).map(({ one }) => one.name);
  const shared = here.filter(({ at }) => (at.parts?.length ?? 0) > 1).map(({ one }) => one.name);
  const sound = here.length - down.length - risky.length;
  const notes = [
    down.length ? t("{0} cannot answer.", down.join(", ")) : "",
    risky.length ? t("{0} at risk.", risky.join(", ")) : "",
    edited.length ? `${edited.join(", ")}: edited, not released.` : "",
    shared.length ? t("{0}: two releases share the calls.", shared.join(", ")) : "",
    behind.length ? t("{0}: a newer release waits.", behind.join(", ")) : "",
  ].filter(Boolean);
  return [
    here.length
      ? t(
          sound === 1 ? "{0} of {1} in {2} is sound" : "{0} of {1} in {2} are sound",
          sound,
          plural(here.length, "service"),
          place,
        )
      : t("Nothing is deployed in {0}", place),
    notes.join(" ") || t("What is live is the newest release of every service."),
  ];
}

export default function OverviewPage() {
  const [view] = useLens();
  const [, go] = useLocation();
  const [search, setSearch] = useAddress();
  const { data, error } = useLoad<Overview>("/overview", 2);
  const [narrow, setNarrow] = useState("");
  const [only, setOnly] = useState("all");
  const calls = useLoad<Call[]>(`/calls?limit=9${view === ALL ? "" : `&environment=${view}`}`, 5);
  const services = useMemo(() => data?.services ?? [], [data]);
  const shown = services.filter(
    (one) =>
      `${one.name} ${one.group} ${one.backends.join(" ")}`.toLowerCase().includes(narrow.toLowerCase()) &&
      (only === "all" || (only === "draft" ? one.draft === "edited" : one.deployments.some(ails))),
  );
  const selected = shown.find((one) => one.name === search.get("service")) ?? shown[0];

  useKeys({
    ...steps(shown, selected, (one) => setSearch({ service: one.name })),
    Enter: () => selected && go(within(`/services/${selected.name}`, view)),
    t: () => selected && go(within(`/tests?service=${selected.name}`, view)),
  });

  if (error && !data) return <NotLoaded error={error} />;
  if (!data) return null;
  const places = services.flatMap((one) => seen(one, view));
  const total = places.reduce((sum, one) => sum + (one.figures?.calls ?? 0), 0);
  const faults = places.reduce((sum, one) => sum + (one.figures?.faults ?? 0), 0);
  const slowest = Math.max(0, ...places.map((one) => one.figures?.p95_micros ?? 0));
  const pools = data.pools.filter((one) => view === ALL || one.environment === view);
  const slices = sumSlices(places);
  const most = Math.max(0, ...slices.map(([count]) => count));
  const [title, note] = headline(services, data.environments, view);
  const columns = data.environments.filter((one) => view === ALL || one.name === view);
  const figures: [string, string, boolean][] = [
    [total < 600 ? (total / 60).toFixed(1) : grouped(Math.round(total / 60)), t("calls a minute"), false],
    [percent(faults, total), t("ended in a fault"), faults > 0],
    [total ? took(slowest) : "–", t("p95 time taken"), false],
    [
      `${pools.reduce((sum, one) => sum + one.pool_size - one.pool_available, 0)} of ${pools.reduce((sum, one) => sum + one.pool_max, 0)}`,
      "sessions in use",
      false,
    ],
  ];
  return (
    <div className="grid min-h-0 grow grid-cols-[minmax(0,1fr)_300px]">
      <section className="flex min-h-0 min-w-0 flex-col">
        <div className="flex items-end gap-7 px-5 pt-3.5 pb-2">
          <div className="min-w-0 grow">
            <h1 className="text-[20px] leading-6 font-semibold">{title}</h1>
            <p className="truncate text-xs text-ink2">{note}</p>
          </div>
          {figures.map(([figure, word, bad]) => (
            <div key={word} className="whitespace-nowrap">
              <div className={`text-[20px] leading-6 font-semibold ${bad ? "text-bad" : ""}`}>{figure}</div>
              <div className="text-xs text-ink2">{word}</div>
            </div>
          ))}
        </div>
        <div className="grid grid-cols-[minmax(0,1fr)_34px] gap-x-2 px-5 pt-1">
          <div className="h-[92px] [&>svg]:h-full [&>svg]:w-full">
            <Posts
              slices={slices}
              height={92}
              width={8}
              gap={3}
              label={t("{0} calls in the last hour, {1} ended in a fault", total, faults)}
            />
          </div>
          <div className="relative text-xs text-ink3">
            <span className="absolute -top-1">{most || ""}</span>
            <span className="absolute -bottom-2">0</span>
          </div>
          <div className="flex justify-between pt-0.5 text-xs text-ink3">
            {[60, 45, 30, 15, 0].map((minutes) => (
              <span key={minutes}>{clock(new Date((data.now - minutes * 60) * 1000)).slice(0, 5)}</span>
            ))}
          </div>
        </div>
        <div className="flex items-center gap-2 px-5 pt-2 pb-1.5">
          <div className="relative">
            <Funnel size={16} strokeWidth={1.75} className="absolute top-1.5 left-2 text-ink3" />
            <input
              data-narrow
              className="field w-56! pl-8!"
              placeholder={t("Name, group or backend")}
              aria-label={t("Narrow by name, group or backend")}
              value={narrow}
              onChange={(event) => setNarrow(event.target.value)}
            />
          </div>
          <Segments
            label={t("Which services")}
            value={only}
            onChange={setOnly}
            options={[
              { value: "all", word: t("All {0}", services.length) },
              {
                value: "attention",
                word: t("Attention {0}", services.filter((one) => one.deployments.some(ails)).length),
              },
              { value: "draft", word: t("Draft changes {0}", services.filter((one) => one.draft === "edited").length) },
            ]}
          />
          <span className="ml-auto text-xs text-ink2">{t("Figures of the last hour")}</span>
        </div>
        <div className="min-h-0 overflow-auto">
          <table className="tbl">
            <thead>
              <tr>
                <th scope="col">{t("Service")}</th>
                <th scope="col">{t("Backend")}</th>
                <th scope="col">{t("Stage")}</th>
                {columns.map((one) => (
                  <th key={one.name} scope="col">
                    <EnvTag name={one.name} isProtected={one.protected} />
                  </th>
                ))}
                <th scope="col">{t("Calls")}</th>
                <th scope="col" className="n">
                  {t("Count")}
                </th>
                <th scope="col" className="n">
                  {t("Faults")}
                </th>
                <th scope="col" className="n">
                  p95
                </th>
              </tr>
            </thead>
            <tbody>
              {shown.map((one) => (
                <Row
                  key={one.name}
                  service={one}
                  columns={columns}
                  view={view}
                  selected={one === selected}
                  onSelect={() => setSearch({ service: one.name })}
                />
              ))}
            </tbody>
          </table>
          {!services.length && (
            <p className="px-5 py-3 text-ink2">
              {rich(
                "No services yet. {0}",
                <Link href="/start" className="act">
                  {t("Go from here to the first answered call")}
                </Link>,
              )}
            </p>
          )}
          {services.length > 0 && !shown.length && (
            <p className="px-5 py-3 text-ink2">
              {rich(
                "No service matches. {0}",
                <button
                  type="button"
                  className="act"
                  onClick={() => {
                    setNarrow("");
                    setOnly("all");
                  }}
                >
                  {t("Clear the search")}
                </button>,
              )}
            </p>
          )}
        </div>
      </section>
      <aside
        className="flex min-h-0 flex-col overflow-auto border-l border-line bg-inset"
        aria-label={t("Addresses and recent calls")}
      >
        {selected && <Addresses service={selected} view={view} />}
        <div className="px-4 pt-3 pb-1 text-[15px] font-semibold">{t("Recent calls")}</div>
        <ul className="px-4 pb-3">
          {calls.data?.map((one) => (
            <li
              key={one.id}
              className="grid grid-cols-[56px_14px_minmax(0,1fr)_auto] items-center gap-1.5 border-b border-line py-1"
            >
              <span className="text-xs text-ink3">{clock(new Date(one.at * 1000))}</span>
              <Mark name={STATE_MARK[one.result] ?? "none"} label={one.result} />
              <span className="min-w-0">
                <span className="block truncate">{one.operation || one.service}</span>
                <span className="block truncate text-xs text-ink3">
                  {rich("{0} in {1}", one.caller || t("no identity"), one.environment)}
                </span>
              </span>
              <span className="text-xs text-ink2">{took(one.micros)}</span>
            </li>
          ))}
          {calls.data?.length === 0 && (
            <li className="text-ink2">
              {rich(
                "No call yet. {0}",
                <Link href={within("/tests", view)} className="act">
                  {t("Send one on the test bench")}
                </Link>,
              )}
            </li>
          )}
        </ul>
        {!!calls.data?.length && (
          <Link href={within("/calls", view)} className="act px-4 pb-3">
            {t("All calls →")}
          </Link>
        )}
        <div className="mt-auto flex flex-wrap gap-x-4 gap-y-1.5 border-t border-line px-4 py-3 text-xs text-ink2">
          {(["serving", "at risk", "faulting", "stopped", "not deployed"] as const).map((state) => (
            <span key={state} className="flex items-center gap-1.5">
              <Mark name={STATE_MARK[state] ?? "none"} />
              {state}
            </span>
          ))}
        </div>
      </aside>
    </div>
  );
}

function Row({
  service,
  columns,
  view,
  selected,
  onSelect,
}: {
  service: ServiceRow;
  columns: EnvironmentInfo[];
  view: string;
  selected: boolean;
  onSelect: () => void;
}) {
  const places = seen(service, view);
  const calls = places.reduce((sum, one) => sum + (one.figures?.calls ?? 0), 0);
  const faults = places.reduce((sum, one) => sum + (one.figures?.faults ?? 0), 0);
  const slowest = Math.max(0, ...places.map((one) => one.figures?.p95_micros ?? 0));
  return (
    // Selecting by pointer; by keyboard it is J and K, and the name is a link.

    <tr
      aria-selected={selected}
      onClick={(event) => {
        if (!(event.target as HTMLElement).closest("a")) onSelect();
      }}
      className="[&>*]:h-[38px]!"
    >
      <th scope="row">
        <span className="flex items-center gap-2">
          {kindsOf(service.sources).map((one) => (
            <one.icon
              key={one.kind}
              size={16}
              strokeWidth={1.75}
              className="shrink-0 text-ink3"
              aria-label={one.word}
            />
          ))}
          <Link href={within(`/services/${service.name}`, view)} className="font-semibold">
            {service.name}
          </Link>
          {service.group && <span className="text-xs text-ink3">{service.group}</span>}
        </span>
      </th>
      <td className="text-ink2">{service.backends.join(", ")}</td>
      <td className="whitespace-nowrap">
        <span className="flex items-center gap-1.5">
          <Mark name={STATE_MARK[service.stage] ?? "none"} />
          <span className={service.stage === "live" ? "text-ink3" : "font-semibold text-warn"}>{service.stage}</span>
        </span>
      </td>
      {columns.map((one) => {
        const there = service.deployments.filter((place) => place.environment === one.name);
        return (
          <td key={one.name} className="whitespace-nowrap">
            {there.map((at) => (
              <Where
                key={at.segment}
                at={at}
                newest={service.newest}
                versioned={there.length > 1 || at.version !== service.version}
              />
            ))}
          </td>
        );
      })}
      <td>
        {calls ? (
          <Posts slices={sumSlices(places).slice(-30)} height={22} label={t("calls in the last half hour")} />
        ) : (
          <span className="text-ink3">{t("no calls")}</span>
        )}
      </td>
      <td className="n">{grouped(calls)}</td>
      <td className={`n ${faults ? "font-semibold text-bad" : ""}`}>{grouped(faults)}</td>
      <td className="n">{calls ? took(slowest) : "–"}</td>
    </tr>
  );
}

/** What is live at one place: of several major versions, each says which it is. */
function Where({ at, newest, versioned }: { at: Place; newest: number | null; versioned: boolean }) {
  return (
    <span className="flex items-center gap-1.5" title={at.reason ?? ""}>
      <Mark name={STATE_MARK[at.state] ?? "none"} />
      {versioned && <span className="text-xs text-ink2">{t("v{0}", at.version)}</span>}
      {at.parts?.map((part) => (
        <span key={part.release} className="font-medium">
          r{part.release}
          {part.share < 100 && <span className="text-xs text-ink2"> {part.share} %</span>}
        </span>
      ))}
      <span className={ails(at) ? `font-semibold ${at.state === "at risk" ? "text-warn" : "text-bad"}` : "text-ink3"}>
        {at.state}
      </span>
      {at.parts?.length === 1 && !at.newest && (
        <span className="text-xs font-semibold text-warn">{rich("r{0} waits", newest)}</span>
      )}
      {at.anonymous && at.release !== undefined && (
        <span className="text-xs font-semibold text-warn">{t("anonymous")}</span>
      )}
      {at.ends && <span className="text-xs font-semibold text-warn">{rich("ends {0}", when(at.ends))}</span>}
    </span>
  );
}

/** The SOAP versions that a contract is for, in words. */
const spoken = (place: Place) => (place.soap_versions?.length ? t("SOAP {0}", place.soap_versions.join(", ")) : "");

function Addresses({ service, view }: { service: ServiceRow; view: string }) {
  const places = seen(service, view).filter((one) => one.soap);
  return (
    <section className="border-b border-line px-4 pt-3 pb-3" aria-label={t("Addresses of {0}", service.name)}>
      <h2 className="mb-1 flex items-center text-[15px] font-semibold">
        {service.name}
        <Link
          href={within(`/tests?service=${service.name}`, view)}
          className="act ml-auto inline-flex items-center gap-1 text-sm"
        >
          {rich("{0}Test", <Play size={14} strokeWidth={1.75} />)}
        </Link>
      </h2>
      <p className="mb-2 text-ink2">{service.description}</p>
      {places.map((place) => (
        <div key={place.segment + place.environment} className="mb-2">
          <div className="mb-0.5 flex items-center gap-2">
            <EnvTag name={place.environment} isProtected={place.protected} />
            <span className="text-xs text-ink3">
              {rich(
                "{0}release {1} since {2}",
                place.version > 1 && t("version {0}, ", place.version),
                place.release,
                when(place.since ?? 0),
              )}
            </span>
            {place.anonymous && <span className="text-xs font-semibold text-warn">{t("anonymous")}</span>}
          </div>
          {(
            [
              [t("Endpoint"), place.soap],
              [t("Contract"), place.wsdl],
              ["REST", place.rest],
            ] as const
          ).map(
            ([word, address]) =>
              address && (
                <div key={word} className="flex items-center gap-1">
                  <span className="w-14 shrink-0 text-xs text-ink2">{word}</span>
                  <span className="min-w-0 grow truncate font-mono text-[12px]" dir="rtl" title={address}>
                    {rich("\u200e{0}", address)}
                  </span>
                  {address === place.wsdl && <span className="shrink-0 text-xs text-ink3">{spoken(place)}</span>}
                  <CopyButton
                    text={address}
                    what={
                      address === place.wsdl && spoken(place)
                        ? t("{0} address in {1}, {2}", word.toLowerCase(), place.environment, spoken(place))
                        : t("{0} address in {1}", word.toLowerCase(), place.environment)
                    }
                  />
                </div>
              ),
          )}
        </div>
      ))}
      {!places.length && <p className="text-ink2">{t("Not deployed: no address answers yet.")}</p>}
    </section>
  );
}
