/** Deploying one release: where to, what share, its gates, and the way back. Live wants its name typed. */
import { useState } from "react";
import { ask, type DeploymentPlan, type Place, type ServiceDetail } from "../api";
import { useAct } from "../act";
import { useLoad } from "../load";
import { Problems, Select } from "../parts/controls";
import { EnvTag, Gate, Mark, STATE_MARK } from "../parts/marks";
import { mayAtLeast, useSession } from "../session";
import { plural } from "../formats";
import { rich, t } from "../text";

const SHARES = ["100", "50", "25", "10", "5", "1"];

export function DeployPanel({
  service,
  release,
  onDone,
}: {
  service: ServiceDetail;
  release: number;
  onDone: () => void;
}) {
  const may = mayAtLeast(useSession(), "operator");
  const act = useAct();
  const places = service.deployments;
  const waiting = places.find((one) => one.release !== release) ?? places[0];
  const [environment, setEnvironment] = useState(waiting?.environment ?? "");
  const [share, setShare] = useState("100");
  const [typed, setTyped] = useState("");
  const [consent, setConsent] = useState("");
  const [overrule, setOverrule] = useState("");
  const place = places.find((one) => one.environment === environment);
  const plan = useLoad<DeploymentPlan>(
    environment
      ? `/services/${encodeURIComponent(service.name)}/deployment-plan?environment=${environment}&release=${release}`
      : null,
    10,
  );
  if (!place) return <p className="px-5 py-3 text-ink2">{t("No environment is defined yet.")}</p>;
  const gates = plan.data?.gates ?? [];
  const stops = gates.flatMap((one) => (one.outcome === "closed" && one.name !== "tests" ? one.problems : []));
  // Tests run when it is deployed; what they close is overruled with a reason.
  const tests = gates.find((one) => one.name === "tests");
  const failing = tests?.outcome === "closed" ? tests.problems : [];
  const refused = failing.length > 0 || act.problems.some((one) => one.code === "gate.tests");
  const asks = gates.flatMap((one) => (one.outcome === "consent" ? one.problems : []));
  const confirmed = !place.protected || typed === environment;
  const ready =
    may &&
    confirmed &&
    !stops.length &&
    (!asks.length || consent.trim() !== "") &&
    (!refused || overrule.trim() !== "") &&
    !act.busy;
  const already = place.parts?.length === 1 && place.release === release;
  const url = `/services/${encodeURIComponent(service.name)}/deployments`;
  const done = () => {
    setTyped("");
    setConsent("");
    setOverrule("");
    onDone();
    plan.reload();
  };
  const deploy = () =>
    act.run(async () => {
      await ask("POST", url, { environment, release, share: Number(share), consent, overrule });
      done();
    });
  const back = () =>
    act.run(async () => {
      await ask("POST", `${url}/${environment}/rollback`, { version: place.version });
      done();
    });
  const why = !may
    ? t("Deploying needs the role operator")
    : stops.length
      ? t("A gate is closed")
      : !confirmed
        ? t("Type {0} first", environment)
        : undefined;
  return (
    <form
      className="border-t border-line bg-inset px-5 py-3"
      onSubmit={(event) => {
        event.preventDefault();
        if (ready) void deploy();
      }}
    >
      <h2 className="mb-1 flex items-center gap-2 text-[15px] font-semibold">
        {rich("Deploy r{0} to {1}", release, <EnvTag name={environment} isProtected={place.protected} />)}
      </h2>
      <div className="flex items-center gap-2 border-b border-line pb-2">
        <Gate open={stops.length === 0 && asks.length === 0 && !refused} />
        <p className="text-xs text-ink2">
          {stops.length
            ? t(stops.length === 1 ? "{0} stops it." : "{0} stop it.", plural(stops.length, "finding"))
            : asks.length
              ? t("Callers break: it needs a reason.")
              : refused
                ? t("Tests fail: it needs a reason.")
                : t("Its gates are open.")}
          {tests?.outcome === "due" && !refused ? ` ${tests.words}` : ""}
          {plan.data?.replaces && plan.data.replaces !== release
            ? t(" It takes the place of r{0}.", plan.data.replaces)
            : ""}{" "}
          {plan.data?.uses.map((one) => (
            <span key={one.backend} className="inline-flex items-center gap-1">
              <Mark name={STATE_MARK[one.state] ?? "draft"} />
              {one.backend} {one.state}
            </span>
          ))}
        </p>
      </div>
      {(stops.length > 0 || asks.length > 0 || failing.length > 0) && (
        <div className="mt-2 max-h-40 overflow-auto">
          <Problems problems={[...stops, ...asks, ...failing]} />
        </div>
      )}
      {plan.error && (
        <div className="mt-2">
          <Problems problems={plan.error.problems} />
        </div>
      )}
      <div className="mt-2 grid grid-cols-2 gap-3">
        <div>
          <span className="lbl">{t("To")}</span>
          <Select
            label={t("To environment")}
            value={environment}
            onChange={(next) => {
              setEnvironment(next);
              setTyped("");
            }}
            options={places
              .filter((one, index) => places.findIndex((two) => two.environment === one.environment) === index)
              .map((one) => ({ value: one.environment, word: one.environment }))}
          />
        </div>
        <div>
          <span className="lbl">{t("Share of the calls")}</span>
          <Select
            label={t("Share of the calls")}
            value={share}
            onChange={setShare}
            options={SHARES.map((one) => ({ value: one, word: one === "100" ? t("all") : `${one} %` }))}
          />
        </div>
      </div>
      {asks.length > 0 && (
        <>
          <label className="lbl mt-2" htmlFor="deploy-consent">
            {t("Reason for breaking callers")}
          </label>
          <input
            id="deploy-consent"
            className="field"
            value={consent}
            onChange={(event) => setConsent(event.target.value)}
          />
        </>
      )}
      {refused && (
        <>
          <label className="lbl mt-2" htmlFor="deploy-overrule">
            {t("Reason for deploying although tests fail")}
          </label>
          <input
            id="deploy-overrule"
            className="field"
            value={overrule}
            onChange={(event) => setOverrule(event.target.value)}
          />
        </>
      )}
      {place.protected && (
        <>
          <label className="lbl mt-2" htmlFor="confirm">
            {t("Type the environment to confirm")}
          </label>
          <input
            id="confirm"
            className="field"
            autoComplete="off"
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
          />
        </>
      )}
      {act.problems.length > 0 && (
        <div className="mt-2 max-h-40 overflow-auto">
          <Problems problems={act.problems} />
        </div>
      )}
      <div className="mt-3 flex gap-2">
        <button type="submit" data-to="D" className="btn btn-main" aria-disabled={!ready} title={why}>
          {already
            ? t("Deploy r{0} again", release)
            : share === "100"
              ? t("Deploy r{0}", release)
              : t("Give r{0} {1} %", release, share)}
        </button>
        {place.release !== undefined && (
          <button
            type="button"
            data-to="R"
            className="btn"
            aria-disabled={!may || !confirmed || act.busy}
            title={confirmed ? t("Back to the release before") : t("Type {0} first", environment)}
            onClick={() => {
              if (may && confirmed && !act.busy) void back();
            }}
          >
            {rich("Roll back {0}", environment)}
          </button>
        )}
      </div>
      {place.release !== undefined && (
        <EndOfService
          service={service.name}
          place={place}
          ready={may && confirmed}
          why={confirmed ? undefined : t("Type {0} first", environment)}
          onDone={done}
        />
      )}
    </form>
  );
}

/** The announced end: the contract says so from now on, and calls are refused with a friendly fault from that day on. */
function EndOfService({
  service,
  place,
  ready,
  why,
  onDone,
}: {
  service: string;
  place: Place;
  ready: boolean;
  why: string | undefined;
  onDone: () => void;
}) {
  const act = useAct();
  const [day, setDay] = useState(place.ends ?? "");
  const [words, setWords] = useState("");
  const set = (on: string | null) =>
    act.run(async () => {
      await ask("PUT", `/services/${encodeURIComponent(service)}/deployments/${place.environment}/end`, {
        on,
        words,
        version: place.version,
      });
      onDone();
    });
  const blocked = !ready || act.busy;
  return (
    <details className="mt-3 border-t border-line pt-2" open={!!place.ends}>
      <summary className="cursor-pointer font-semibold">
        {place.ends
          ? t("Ends in {0} on {1}", place.environment, place.ends)
          : t("Announce the end in {0}", place.environment)}
      </summary>
      <div className="mt-2 grid grid-cols-2 gap-3">
        <div>
          <label className="lbl" htmlFor="end-day">
            {t("Last day before")}
          </label>
          <input
            id="end-day"
            type="date"
            className="field"
            value={day}
            onChange={(event) => setDay(event.target.value)}
          />
        </div>
        <div>
          <label className="lbl" htmlFor="end-words">
            {t("Words for callers")}
          </label>
          <input
            id="end-words"
            className="field"
            placeholder={t("What to use instead")}
            value={words}
            onChange={(event) => setWords(event.target.value)}
          />
        </div>
      </div>
      {act.problems.length > 0 && (
        <div className="mt-2">
          <Problems problems={act.problems} />
        </div>
      )}
      <div className="mt-2 flex gap-2">
        <button
          type="button"
          className="btn btn-bad"
          aria-disabled={blocked || !day}
          title={why}
          onClick={() => {
            if (!blocked && day) void set(day);
          }}
        >
          {t("Announce the end")}
        </button>
        {place.ends && (
          <button
            type="button"
            className="btn"
            aria-disabled={blocked}
            title={why}
            onClick={() => {
              if (!blocked) void set(null);
            }}
          >
            {t("Keep it")}
          </button>
        )}
      </div>
    </details>
  );
}
