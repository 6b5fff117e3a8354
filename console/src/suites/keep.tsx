/** Keeping what happened as a case of a suite, and what was chosen for it: what was just sent, or a call of the log. */
import { useState } from "react";
import { Link } from "wouter";
import { ask, type CallDetail, type KeptCase, type Plain, type Reply, type SuiteRow } from "../api";
import { useAct } from "../act";
import { useLens, within } from "../lens";
import { useLoad } from "../load";
import { Problems } from "../parts/controls";
import { Mark } from "../parts/marks";
import { mayAtLeast, useSession } from "../session";
import { rich, t } from "../text";

export interface Keepable {
  environment: string;
  service: string;
  operation: string;
  values: Plain;
  envelope: string | null;
  soap: string;
}

/** What was sent on the bench, with what came. */
export function KeepCase({ request, reply }: { request: Keepable; reply: Reply }) {
  const tried = {
    ...request,
    envelope: request.envelope ?? "",
    caller: reply.caller,
    trial: reply.trial !== "",
    answer: reply.answer,
    fault: reply.fault,
  };
  return <KeepForm service={request.service} body={{ tried }} offersStandIns={false} className="px-5" />;
}

/** A call of the log whose trace was kept; what its workflow called may stand in for that. */
export function KeepCall({ call }: { call: CallDetail }) {
  const calls = call.trace?.spans.some((one) => one.action === "call" || one.action === "http") ?? false;
  return (
    <KeepForm service={call.service} body={{ call: call.id }} offersStandIns={calls} className="-mx-4 mt-2 px-4" />
  );
}

function KeepForm({
  service,
  body,
  offersStandIns,
  className,
}: {
  service: string;
  body: object;
  offersStandIns: boolean;
  className: string;
}) {
  const may = mayAtLeast(useSession(), "integrator");
  const [view] = useLens();
  const act = useAct();
  const [open, setOpen] = useState(false);
  const known = useLoad<SuiteRow[]>(open ? "/suites" : null);
  const mine = (known.data ?? []).filter((one) => one.service === service);
  const [wished, setSuite] = useState<string>();
  const [name, setName] = useState("");
  const [kept, setKept] = useState<KeptCase>();
  const [standIns, setStandIns] = useState(offersStandIns);
  const suite = wished ?? mine[0]?.name ?? dashed(service);
  const ready = suite.trim() !== "" && name.trim() !== "" && !act.busy;
  const keep = () =>
    act.run(async () => {
      const path = `/suites/${encodeURIComponent(suite.trim())}/cases/${encodeURIComponent(name.trim())}`;
      setKept(await ask<KeptCase>("POST", path, { ...body, stand_ins: standIns }));
    });
  if (!may) return null;
  if (kept)
    return (
      <section className={`border-b border-line py-2 ${className}`} aria-label={t("The kept case")}>
        <p className="flex items-center gap-2" role="status">
          <Mark name="serving" />
          {rich(
            "Kept as a draft: {0}",
            <Link
              className="act font-semibold"
              href={within(`/tests/suites?suite=${kept.suite}&case=${kept.case}`, view)}
            >
              {kept.suite} {kept.case}
            </Link>,
          )}
        </p>
        {kept.chosen.map((one) => (
          <p key={one.place} className="ml-5 text-ink2">
            <code className="font-mono text-[12.5px] text-ink">{one.place}</code>: {one.words}
          </p>
        ))}
      </section>
    );
  // The form waits for the suites: a proposal that comes while somebody writes would get into their words.
  if (!open || !(known.data ?? known.error))
    return (
      <div className={`flex h-[38px] items-center border-b border-line ${className}`}>
        <button type="button" className="btn" onClick={() => setOpen(true)}>
          {t("Keep as a case…")}
        </button>
      </div>
    );
  return (
    <form
      className={`border-b border-line bg-inset py-2 ${className}`}
      aria-label={t("Keep as a case")}
      onSubmit={(event) => {
        event.preventDefault();
        if (ready) void keep();
      }}
    >
      <div className="flex flex-wrap items-end gap-3">
        <label className="w-44">
          <span className="lbl">{t("Suite")}</span>
          <input
            className="field"
            list="known-suites"
            value={suite}
            onChange={(event) => setSuite(event.target.value)}
          />
        </label>
        <datalist id="known-suites">
          {mine.map((one) => (
            <option key={one.name} value={one.name} />
          ))}
        </datalist>
        <label className="w-44">
          <span className="lbl">{t("Case")}</span>
          <input
            className="field"
            placeholder="a-known-vessel"
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
        </label>
        <button type="submit" className="btn btn-main" aria-disabled={!ready}>
          {t("Keep it")}
        </button>
        <button type="button" className="btn" onClick={() => setOpen(false)}>
          {t("Leave it")}
        </button>
      </div>
      {offersStandIns && (
        <label className="mt-2 flex items-center gap-2">
          <input type="checkbox" checked={standIns} onChange={(event) => setStandIns(event.target.checked)} />
          {t("What its workflow called is answered as it was then")}
        </label>
      )}
      {act.problems.length > 0 && (
        <div className="mt-2">
          <Problems problems={act.problems} />
        </div>
      )}
    </form>
  );
}

function dashed(name: string): string {
  return name.replace(/([a-z0-9])([A-Z])/g, "$1-$2").toLowerCase();
}
