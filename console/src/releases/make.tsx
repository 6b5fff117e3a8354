/** Freezing the draft as the next release. */
import { useState } from "react";
import { ask, type ServiceDetail } from "../api";
import { useAct } from "../act";
import { Problems } from "../parts/controls";
import { mayAtLeast, useSession } from "../session";
import { rich, t } from "../text";

export function MakeRelease({
  service,
  breaking,
  onMade,
}: {
  service: ServiceDetail;
  breaking: boolean;
  onMade: (number: number) => void;
}) {
  const may = mayAtLeast(useSession(), "integrator");
  const act = useAct();
  const [notes, setNotes] = useState("");
  const [consent, setConsent] = useState("");
  const next = (service.releases[0]?.number ?? 0) + 1;
  const make = () =>
    act.run(async () => {
      const made = await ask<{ release: number }>("POST", `/services/${encodeURIComponent(service.name)}/releases`, {
        notes,
        consent,
      });
      onMade(made.release);
    });
  return (
    <form
      className="border-t border-line bg-inset px-5 py-3"
      onSubmit={(event) => {
        event.preventDefault();
        if (may && !act.busy) void make();
      }}
    >
      <h2 className="mb-2 text-[15px] font-semibold">{rich("Release the draft as r{0}", next)}</h2>
      <label className="lbl" htmlFor="notes">
        {t("What is new")}
      </label>
      <input id="notes" className="field mb-2" value={notes} onChange={(event) => setNotes(event.target.value)} />
      {breaking && (
        <>
          <label className="lbl" htmlFor="consent">
            {t("Reason for breaking callers")}
          </label>
          <input id="consent" className="field" value={consent} onChange={(event) => setConsent(event.target.value)} />
          <p className="mt-0.5 mb-2 text-xs text-ink3">
            {rich(
              "Or set version {0} in the service, for an address of its own beside the old one.",
              service.version + 1,
            )}
          </p>
        </>
      )}
      {act.problems.length > 0 && (
        <div className="mb-2 max-h-52 overflow-auto">
          <Problems problems={act.problems} />
        </div>
      )}
      <button
        type="submit"
        data-to="D"
        className="btn btn-main"
        aria-disabled={!may || act.busy}
        title={may ? undefined : t("Releasing needs the role integrator")}
      >
        {rich("Release r{0}", next)}
      </button>
    </form>
  );
}
