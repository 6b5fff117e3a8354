/** The last step: a name, what publishes it, and what the check of the recording says. */
import { useState } from "react";
import { Link } from "wouter";
import { ask, type Problem } from "../../api";
import { useAct } from "../../act";
import { Problems } from "../../parts/controls";
import { Labelled, Panel } from "../../parts/dialog";
import { Mark } from "../../parts/marks";
import { body, type Recording } from "./recorder";
import { rich, t } from "../../text";

interface Finished {
  problems: Problem[];
  files: Record<string, string>;
  findings: (Problem & { severity: string })[];
  changes: { action: string; kind: string; name: string }[];
}

export function FinishPanel({
  recording,
  backend,
  environment,
  isProtected,
  services,
  roles,
  onChange,
  onClose,
}: {
  recording: Recording;
  backend: string;
  environment: string;
  isProtected: boolean;
  services: string[];
  roles: string[];
  onChange: (next: Recording) => void;
  onClose: () => void;
}) {
  const act = useAct();
  const [done, setDone] = useState<Finished>();
  const [live, setLive] = useState(false);
  const send = (save: boolean, publish = false) =>
    act.run(async () => {
      setDone(undefined);
      const made = await ask<Finished>("POST", "/screens-recordings", body(recording, backend, environment, save));
      setDone(made);
      if (!publish || made.problems.length) return;
      const service = encodeURIComponent(recording.service);
      await ask("POST", `/services/${service}/releases`, { notes: t("{0}, as it was recorded", recording.operation) });
      await ask("POST", `/services/${service}/deployments`, { environment });
      setLive(true);
    });
  const saved = Boolean(done?.changes.length);
  const set = (change: Partial<Recording>) => {
    setDone(undefined);
    onChange({ ...recording, ...change });
  };
  return (
    <Panel title={t("Finish the recording")} open onClose={onClose} wide>
      {saved ? (
        <div>
          <p className="mb-2 flex items-center gap-2 font-semibold text-ok">
            {rich(
              "{0}{1}",
              <Mark name="serving" />,
              live ? t("{0} answers in {1}", recording.service, environment) : t("Saved as drafts, and filmed"),
            )}
          </p>
          <ul className="mb-3">
            {done?.changes.map((one) => (
              <li key={`${one.kind} ${one.name}`} className="text-ink2">
                {one.action} {one.kind} <span className="font-mono text-ink">{one.name}</span>
              </li>
            ))}
          </ul>
          <div className="flex gap-2">
            {live && (
              <Link className="btn btn-main" href="/start">
                {t("Let a caller in")}
              </Link>
            )}
            {recording.service && !live && (
              <Link className="btn btn-main" href={`/releases?service=${encodeURIComponent(recording.service)}`}>
                {rich("Release and deploy {0}", recording.service)}
              </Link>
            )}
            <Link className="btn" href={`/screens?flow=${encodeURIComponent(recording.name)}`}>
              {t("See its film")}
            </Link>
          </div>
        </div>
      ) : (
        <form
          onSubmit={(event) => {
            event.preventDefault();
            void send(true);
          }}
        >
          <div className="grid grid-cols-2 gap-x-4">
            <Labelled label={t("Name of the flow")}>
              {(id) => (
                <input
                  id={id}
                  className="field font-mono"
                  required
                  pattern="[A-Za-z][A-Za-z0-9_\-]*"
                  placeholder={t("vessel-enquiry")}
                  value={recording.name}
                  onChange={(event) => set({ name: event.target.value })}
                />
              )}
            </Labelled>
            <Labelled label={t("What it does")}>
              {(id) => (
                <input
                  id={id}
                  className="field"
                  value={recording.description}
                  onChange={(event) => set({ description: event.target.value })}
                />
              )}
            </Labelled>
            <Labelled label={t("Service")} hint={t("An existing one gets one operation more.")}>
              {(id) => (
                <>
                  <input
                    id={id}
                    className="field font-mono"
                    list="known-services"
                    value={recording.service}
                    onChange={(event) => set({ service: event.target.value })}
                  />
                  <datalist id="known-services">
                    {services.map((one) => (
                      <option key={one} value={one} />
                    ))}
                  </datalist>
                </>
              )}
            </Labelled>
            <Labelled label={t("Operation")}>
              {(id) => (
                <input
                  id={id}
                  className="field font-mono"
                  placeholder={t("GetVessel")}
                  value={recording.operation}
                  onChange={(event) => set({ operation: event.target.value })}
                />
              )}
            </Labelled>
          </div>
          <label className="mb-2 flex items-center gap-2">
            {rich(
              "{0}It only reads, so it may be tried again by itself",
              <input
                type="checkbox"
                checked={!recording.writes}
                onChange={(event) => set({ writes: !event.target.checked })}
              />,
            )}
          </label>
          {!services.includes(recording.service) && !roles.length && (
            <Labelled label={t("The role that may call it")}>
              {(id) => (
                <input
                  id={id}
                  className="field font-mono"
                  placeholder={t("reader")}
                  value={recording.roles[0] ?? ""}
                  onChange={(event) => set({ roles: event.target.value ? [event.target.value] : [] })}
                />
              )}
            </Labelled>
          )}
          {!services.includes(recording.service) && roles.length > 0 && (
            <fieldset className="mb-2">
              <legend className="lbl">{t("Who may call the new service")}</legend>
              <div className="flex flex-wrap gap-x-4">
                {roles.map((one) => (
                  <label key={one} className="flex items-center gap-1.5">
                    <input
                      type="checkbox"
                      checked={recording.roles.includes(one)}
                      onChange={(event) =>
                        set({
                          roles: event.target.checked
                            ? [...recording.roles, one]
                            : recording.roles.filter((two) => two !== one),
                        })
                      }
                    />
                    {one}
                  </label>
                ))}
              </div>
            </fieldset>
          )}
          {act.problems.length > 0 && (
            <div className="mb-2">
              <Problems problems={act.problems} />
            </div>
          )}
          {done && done.problems.length > 0 && (
            <div className="mb-2">
              <Problems problems={done.problems} />
            </div>
          )}
          {done && !done.problems.length && (
            <div className="mb-2">
              <p className="flex items-center gap-2 font-semibold text-ok">
                {rich("{0}The recording is sound", <Mark name="serving" />)}
              </p>
              {done.findings.map((one, index) => (
                <p key={index} className="text-xs text-ink2">
                  {one.severity}: {one.message}
                </p>
              ))}
              {Object.entries(done.files).map(([path, text]) => (
                <details key={path} className="mt-1">
                  <summary className="cursor-pointer font-mono text-[12.5px]">{path}</summary>
                  <pre className="xml max-h-56 overflow-auto bg-inset p-2">{text}</pre>
                </details>
              ))}
            </div>
          )}
          <div className="flex gap-2">
            <button type="submit" className="btn btn-main" aria-disabled={act.busy}>
              {t("Save as drafts")}
            </button>
            {!isProtected && (
              <button
                type="button"
                className="btn"
                aria-disabled={act.busy || !recording.name || !recording.service}
                onClick={() => {
                  if (!act.busy && recording.name && recording.service) void send(true, true);
                }}
              >
                {t("Save and publish in {0}", environment)}
              </button>
            )}
            <button type="button" className="btn" aria-disabled={act.busy} onClick={() => void send(false)}>
              {t("Check it first")}
            </button>
          </div>
        </form>
      )}
    </Panel>
  );
}
