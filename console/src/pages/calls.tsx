/** Recorded calls, the newest first. */
import { Search } from "lucide-react";
import { useState } from "react";
import { Link, useLocation } from "wouter";
import { useAddress } from "../address";
import { steps, useKeys } from "../hotkeys";
import type { Call, CallDetail, Overview } from "../api";
import { ALL, useLens, within } from "../lens";
import { useLoad } from "../load";
import { NotLoaded, Segments } from "../parts/controls";
import { Mark, STATE_MARK } from "../parts/marks";
import { Facts, TimeRow } from "../parts/rows";
import { Timeline } from "../parts/timeline";
import { bytes, plural, took } from "../formats";
import { KeepCall } from "../suites/keep";
import { rich, t } from "../text";

export default function CallsPage() {
  const [view] = useLens();
  const [, go] = useLocation();
  const [search, setSearch] = useAddress();
  const [words, setWords] = useState("");
  const only = search.get("only") ?? "all";
  const service = search.get("service") ?? "";
  const query = new URLSearchParams({ limit: "200", failed: String(only === "faults") });
  if (view !== ALL) query.set("environment", view);
  if (service) query.set("service", service);
  const { data, error } = useLoad<Call[]>(`/calls?${query}`, 3);
  const overview = useLoad<Overview>("/overview", 30);
  const strangers = (overview.data?.strangers ?? [])
    .filter((one) => (view === ALL || one.environment === view) && (!service || one.service === service))
    .reduce((sum, one) => sum + one.count, 0);
  const shown = (data ?? []).filter((one) =>
    words
      .toLowerCase()
      .split(/\s+/)
      .every((word) =>
        `${one.id} ${one.service}.${one.operation} ${one.caller} ${one.fault} ${one.message} ${one.face}`
          .toLowerCase()
          .includes(word),
      ),
  );
  const selected = shown.find((one) => one.id === search.get("call"));
  const set = (name: string, value: string) => setSearch({ [name]: value });

  useKeys({
    ...steps(shown, selected, (one) => set("call", one.id)),
    Escape: () => set("call", ""),
    Enter: () => selected && go(bench(selected)),
  });

  if (error && !data) return <NotLoaded error={error} />;
  if (!data) return null;
  const faults = shown.filter((one) => one.result !== "answered").length;
  return (
    <div className={`grid min-h-0 grow ${selected ? "grid-cols-[minmax(0,1fr)_404px]" : ""}`}>
      <section className="flex min-h-0 min-w-0 flex-col">
        <div className="flex items-center gap-3 px-5 pt-3 pb-2">
          <h1 className="text-[20px] leading-6 font-semibold">{t("Calls")}</h1>
          <span className="text-xs text-ink2">
            {rich(
              "{0} shown, {1} with a fault{2}",
              plural(shown.length, "call"),
              faults,
              service && t(", of {0}", service),
            )}
          </span>
          {strangers > 0 && (
            <span className="text-xs text-ink2">
              {t("{0} of nobody who is known in the last hour", plural(strangers, "request"))}
            </span>
          )}
          {service && (
            <button type="button" className="act text-xs" onClick={() => set("service", "")}>
              {t("Show all services")}
            </button>
          )}
        </div>
        <div className="flex items-center gap-2 px-5 pb-2">
          <div className="relative grow">
            <Search size={16} strokeWidth={1.75} className="absolute top-1.5 left-2 text-ink3" />
            <input
              data-narrow
              className="field pl-8!"
              placeholder={t("Words: operation, caller, fault, call number")}
              aria-label={t("Narrow the calls")}
              value={words}
              onChange={(event) => setWords(event.target.value)}
            />
          </div>
          <Segments
            label={t("Which calls")}
            value={only}
            onChange={(next) => set("only", next === "all" ? "" : next)}
            options={[
              { value: "all", word: t("All") },
              { value: "faults", word: t("Faults") },
            ]}
          />
        </div>
        <div className="min-h-0 overflow-auto">
          <table className="tbl">
            <thead>
              <tr>
                <th scope="col">{t("Time")}</th>
                <th scope="col">{t("Operation")}</th>
                <th scope="col">{t("Environment")}</th>
                <th scope="col">{t("Caller")}</th>
                <th scope="col">{t("Face")}</th>
                <th scope="col" className="n">
                  {t("Took")}
                </th>
                <th scope="col" className="n">
                  {t("Answer")}
                </th>
                <th scope="col">{t("Fault")}</th>
              </tr>
            </thead>
            <tbody>
              {shown.map((one) => (
                <TimeRow key={one.id} at={one.at} selected={one === selected} onSelect={() => set("call", one.id)}>
                  <td>
                    <span className="flex items-center gap-2">
                      <Mark name={STATE_MARK[one.result] ?? "none"} label={one.result} />
                      <span className="font-medium">
                        {one.service}.{one.operation || "?"}
                      </span>
                    </span>
                  </td>
                  <td className="text-ink2">{one.environment}</td>
                  <td>{one.caller || <span className="text-ink3">{t("no identity")}</span>}</td>
                  <td className="text-ink2">{one.face}</td>
                  <td className="n">{took(one.micros)}</td>
                  <td className="n">{bytes(one.response_bytes)}</td>
                  <td className="font-mono text-[12.5px] text-bad">{one.fault}</td>
                </TimeRow>
              ))}
            </tbody>
          </table>
          {!shown.length && (
            <p className="px-5 py-3 text-ink2">
              {data.length || only !== "all" ? (
                <>
                  {rich(
                    "No call matches. {0}",
                    <button
                      type="button"
                      className="act"
                      onClick={() => {
                        setWords("");
                        set("only", "");
                      }}
                    >
                      {t("Clear the search")}
                    </button>,
                  )}
                </>
              ) : (
                <>
                  {rich(
                    "No call yet. {0}",
                    <Link className="act" href={within("/tests", view)}>
                      {t("Send one on the test bench")}
                    </Link>,
                  )}
                </>
              )}
            </p>
          )}
        </div>
      </section>
      {selected && (
        <aside
          className="flex min-h-0 flex-col overflow-auto border-l border-line bg-inset px-4 py-3"
          aria-label={t("The selected call")}
        >
          <h2 className="text-[15px] font-semibold break-all">
            {selected.service}.{selected.operation || "?"}
          </h2>
          <p
            className={`mt-1 flex items-center gap-2 font-semibold ${selected.result === "answered" ? "text-ok" : "text-bad"}`}
          >
            {rich(
              "{0}{1} after {2}",
              <Mark name={STATE_MARK[selected.result] ?? "none"} />,
              selected.result === "answered" ? t("Answered") : t("Ended in {0}", selected.fault),
              took(selected.micros),
            )}
          </p>
          {selected.message && <p className="mt-1 break-words">{selected.message}</p>}
          <Kept key={selected.id} call={selected.id} />
          <Facts
            copied={t("the call number")}
            rows={[
              [t("Call"), selected.id],
              [t("Caller"), selected.caller || t("no identity")],
              [t("Release"), t("r{0} in {1}", selected.release, selected.environment)],
              [t("Face"), t("{0}, status {1}", selected.face, selected.status)],
              [t("Request"), bytes(selected.request_bytes)],
              [t("Answer"), bytes(selected.response_bytes)],
            ]}
          />
          {selected.operation && (
            <Link href={bench(selected)} className="btn btn-main mt-4 self-start">
              {t("Open on the test bench")}
            </Link>
          )}
        </aside>
      )}
    </div>
  );
}

/** The screen that a call stopped at and its trace, where they were kept. */
function Kept({ call }: { call: string }) {
  const { data } = useLoad<CallDetail>(`/calls/${encodeURIComponent(call)}`);
  if (!data) return null;
  return (
    <>
      {data.picture && <Screen picture={data.picture} />}
      {data.trace && data.operation && <KeepCall call={data} />}
      {data.trace ? (
        <Timeline trace={data.trace} />
      ) : (
        <p className="mt-2 text-xs text-ink2">
          {t("No trace was kept. The environment {0} says which calls leave one: 'traces:'.", data.environment)}
        </p>
      )}
    </>
  );
}

function Screen({ picture }: { picture: NonNullable<CallDetail["picture"]> }) {
  return (
    <figure className="mt-2">
      <figcaption className="lbl">{rich("The screen, {0}", picture.title)}</figcaption>
      <pre className="term overflow-x-auto p-2 font-mono text-[6.2px] leading-[9px]">{picture.lines.join("\n")}</pre>
    </figure>
  );
}

function bench(call: Call): string {
  return `/tests?service=${call.service}&operation=${call.operation}&against=${call.environment}`;
}
