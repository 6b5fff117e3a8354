/** The test bench: a form from the contract, the real endpoint, the answer, both envelopes, status, size and time. */
import { Play } from "lucide-react";
import { useMemo, useState } from "react";
import {
  ask,
  ProblemError,
  type CallerRow,
  type OperationShape,
  type Overview,
  type Plain,
  type Problem,
  type Reply,
  type TestRunDetail,
} from "../api";
import { useAddress } from "../address";
import { useKeys } from "../hotkeys";
import { kindOf } from "../kinds";
import { Form } from "../bench/form";
import { PickFrom } from "../bench/picker";
import { Result } from "../bench/result";
import { useLens } from "../lens";
import { useLoad } from "../load";
import { ContextWords } from "../parts/context";
import { Problems, Segments, Select } from "../parts/controls";
import { EnvTag } from "../parts/marks";
import { mayAtLeast, useSession } from "../session";
import { TestTabs } from "../suites/tabs";
import { rich, t } from "../text";

const FIRST = "";

export default function BenchPage() {
  const person = useSession();
  const [view] = useLens();
  const [search, setSearch] = useAddress();
  const overview = useLoad<Overview>("/overview");
  const callers = useLoad<CallerRow[]>("/callers");
  const live = useMemo(
    () => (overview.data?.services ?? []).filter((one) => one.deployments.some((at) => at.answers)),
    [overview.data],
  );
  const service = live.find((one) => one.name === search.get("service")) ?? live[0];
  const places = service?.deployments.filter((one) => one.answers) ?? [];
  const place = places.find((one) => one.environment === (search.get("against") ?? view)) ?? places[0];
  const operations = useLoad<OperationShape[]>(
    service && place ? `/services/${service.name}/operations?environment=${place.environment}` : null,
  );
  const operation = operations.data?.find((one) => one.name === search.get("operation")) ?? operations.data?.[0];
  const versions = operation?.soap ?? ["1.1", "1.2"];
  const [caller, setCaller] = useState(FIRST);
  const [wished, setSoap] = useState("1.1");
  const soap = versions.includes(wished) ? wished : (versions[0] ?? wished);
  const [mode, setMode] = useState("form");
  const [trial, setTrial] = useState(false);
  // What was typed and what came back belong to one operation; for another one its sample stands.
  const [typed, setTyped] = useState<{ of: string; values?: Plain; envelope?: string }>({ of: "" });
  const [outcome, setOutcome] = useState<{ of: string; reply?: Reply; problems?: Problem[] }>({ of: "" });
  const [busy, setBusy] = useState(false);
  const may = mayAtLeast(person, "operator");

  const set = (name: string, value: string) =>
    setSearch(name === "service" ? { service: value, operation: null } : { [name]: value });

  const name = operation?.name;
  const at = place?.environment;
  // From a failed case: the request that it sent, with its caller.
  const run = search.get("run");
  const failed = useLoad<TestRunDetail>(run ? `/test-runs/${run}` : null);
  const failing = failed.data?.results.find((one) => String(one.number) === search.get("result"));
  const [taken, setTaken] = useState<number>();
  if (failing && operation && service && failing.operation === operation.name && taken !== failing.number) {
    setTaken(failing.number);
    setTyped({ of: `${service.name}.${operation.name}`, values: failing.values });
    if (callers.data?.some((one) => one.name === failing.caller) || failing.caller === "anonymous")
      setCaller(failing.caller);
    if (failing.face.startsWith("soap ")) setSoap(failing.face.slice(5));
    setTrial(operation.writes);
  }
  const samplePath =
    service && name && at ? `/services/${service.name}/sample/${name}?environment=${at}&soap=${soap}` : null;
  const sample = useLoad<{ values: Plain; envelope: string }>(samplePath);
  const key = `${service?.name}.${name}`;
  const mine = typed.of === key ? typed : { of: key };
  const values = mine.values ?? sample.data?.values ?? {};
  const envelope = mine.envelope ?? sample.data?.envelope ?? "";
  // Nothing is sent before the sample is here: an empty request is not what the page shows.
  const ready = mode === "text" ? envelope !== "" : mine.values !== undefined || sample.data !== undefined;
  const type = (part: { values?: Plain; envelope?: string }) => setTyped({ ...mine, ...part });

  const send = async () => {
    if (!service || !operation || !place || busy || !may || !ready) return;
    setBusy(true);
    try {
      const reply = await ask<Reply>("POST", "/bench", {
        environment: place.environment,
        service: service.name,
        operation: operation.name,
        caller,
        soap,
        values,
        envelope: mode === "text" ? envelope : null,
        trial: trial && operation.writes,
      });
      setOutcome({ of: key, reply });
    } catch (error) {
      if (error instanceof ProblemError) setOutcome({ of: key, problems: error.problems });
    }
    setBusy(false);
  };

  useKeys({
    "Ctrl+Enter": (event) => {
      event.preventDefault();
      void send();
    },
  });

  if (overview.data && !live.length)
    return (
      <div className="px-5 py-4">
        <h1 className="text-[20px] leading-6 font-semibold">{t("Test bench")}</h1>
        <p className="mt-1 text-ink2">
          {t("Nothing is live yet, so there is nothing to call. Deploy a release first.")}
        </p>
      </div>
    );
  if (!service || !place || !operation)
    return operations.error ? (
      <div className="p-5">
        <Problems problems={operations.error.problems} />
      </div>
    ) : null;
  return (
    <>
      <TestTabs at="/tests" />
      <div className="grid min-h-0 grow grid-cols-[388px_minmax(0,1fr)]">
        <form
          className="flex min-h-0 flex-col border-r border-line"
          onSubmit={(event) => {
            event.preventDefault();
            void send();
          }}
        >
          <div className="border-b border-line px-5 pt-3 pb-3">
            <h1 className="text-[20px] leading-6 font-semibold">{t("Test bench")}</h1>
            <div className="mt-2.5 grid grid-cols-2 gap-x-3 gap-y-2">
              <div>
                <span className="lbl">{t("Service")}</span>
                <Select
                  label={t("Service")}
                  value={service.name}
                  onChange={(next) => set("service", next)}
                  options={live.map((one) => ({ value: one.name, word: one.name }))}
                />
              </div>
              <div>
                <span className="lbl">{t("Operation")}</span>
                <Select
                  label={t("Operation")}
                  value={operation.name}
                  onChange={(next) => set("operation", next)}
                  options={(operations.data ?? []).map((one) => ({ value: one.name, word: one.name }))}
                />
              </div>
              <div>
                <span className="lbl">{t("Against")}</span>
                <Select
                  label={t("Against")}
                  value={place.environment}
                  onChange={(next) => set("against", next)}
                  options={places.map((one) => ({
                    value: one.environment,
                    word: (
                      <span className="flex items-center gap-2">
                        <EnvTag name={one.environment} isProtected={one.protected} />r{one.release}
                      </span>
                    ),
                  }))}
                />
              </div>
              <div>
                <span className="lbl">{t("As caller")}</span>
                <Select
                  label={t("As caller")}
                  value={caller}
                  onChange={setCaller}
                  placeholder={t("first who may")}
                  options={[
                    { value: FIRST, word: t("first who may") },
                    ...(callers.data ?? []).map((one) => ({ value: one.name, word: one.name })),
                    { value: "anonymous", word: t("nobody (anonymous)") },
                  ]}
                />
              </div>
            </div>
            <ContextWords
              context={overview.data?.environments.find((one) => one.name === place.environment)?.context}
            />
          </div>
          <div className="flex h-[36px] shrink-0 items-center gap-3 px-5 text-xs">
            <h2 className="text-sm font-semibold">{t("Input")}</h2>
            <Segments
              label={t("Input as")}
              value={mode}
              onChange={setMode}
              options={[
                { value: "form", word: t("Form") },
                { value: "text", word: t("Text") },
              ]}
            />
            <span className="ml-auto flex items-center gap-3">
              <button type="button" className="act" onClick={() => type({ values: {} })}>
                {t("Clear")}
              </button>
              <button type="button" className="act" onClick={() => setTyped({ of: key })}>
                {t("Fill with samples")}
              </button>
            </span>
          </div>
          <div className="flex min-h-0 grow flex-col gap-2 overflow-auto px-5 pt-1 pb-3">
            {mode === "form" ? (
              <PickFrom.Provider
                value={{ environment: place.environment, service: service.name, operation: operation.name }}
              >
                <Form elements={operation.input} values={values} onChange={(next) => type({ values: next })} />
              </PickFrom.Provider>
            ) : (
              <textarea
                aria-label={t("Request envelope")}
                spellCheck={false}
                value={envelope}
                onChange={(event) => type({ envelope: event.target.value })}
                className="min-h-60 grow resize-none rounded-[3px] border border-edge bg-raised p-2 font-mono text-[12px] leading-[17px]"
              />
            )}
          </div>
          <div className="flex items-center gap-2 border-t border-line bg-inset px-5 py-2.5">
            <button
              type="submit"
              className="btn btn-main"
              aria-disabled={busy || !may || !ready}
              title={may ? undefined : t("Sending needs the role operator; yours is viewer")}
            >
              <Play size={15} strokeWidth={1.75} />
              {trial && operation.writes ? t("Try in") : t("Send to")} {place.environment}
              <kbd className="kbd-in">Ctrl Enter</kbd>
            </button>
            {operation.writes && (
              <label
                className="flex items-center gap-1.5 text-xs text-ink2"
                title={t("Everything runs, the answer says what would be stored, and it is rolled back")}
              >
                {rich(
                  "{0}Trial",
                  <input type="checkbox" checked={trial} onChange={(event) => setTrial(event.target.checked)} />,
                )}
              </label>
            )}
            <span className="ml-auto flex items-center gap-1.5 text-xs text-ink2">
              {rich(
                "SOAP{0}",
                <Segments
                  label={t("SOAP version")}
                  value={soap}
                  onChange={setSoap}
                  options={versions.map((one) => ({ value: one, word: one }))}
                />,
              )}
            </span>
          </div>
        </form>
        <Result
          key={outcome.reply?.call}
          comparable={kindOf(operation.source?.kind).comparable}
          outside={kindOf(operation.source?.kind).outside ?? false}
          request={{
            environment: place.environment,
            service: service.name,
            operation: operation.name,
            values,
            envelope: mode === "text" ? envelope : null,
            soap,
            writes: operation.writes,
          }}
          reply={outcome.of === key ? outcome.reply : undefined}
          problems={outcome.of === key ? (outcome.problems ?? []) : []}
          busy={busy}
        />
      </div>
    </>
  );
}
