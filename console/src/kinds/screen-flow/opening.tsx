/** Which host is walked through: chosen before its terminal is opened. */
import { type BackendEnd, type Problem } from "../../api";
import { Problems, Select } from "../../parts/controls";
import { StrangeForm, type StrangeHost } from "./strange";
import { t } from "../../text";

export function Opening({
  hosts,
  place,
  opening,
  problems,
  told,
  onPlace,
  onOpen,
  onStrange,
}: {
  hosts: BackendEnd[];
  place: BackendEnd | undefined;
  opening: boolean;
  problems: Problem[];
  /** What was connected a moment ago. */
  told: string;
  onPlace: (next: string) => void;
  onOpen: () => void;
  onStrange: (host: StrangeHost) => void;
}) {
  return (
    <div className="grid max-w-[980px] grid-cols-2 gap-10 overflow-auto px-5 py-4">
      <section aria-label={t("A host that is defined")}>
        <h2 className="mb-2 text-[15px] font-semibold">{t("A host that is defined")}</h2>
        {told && (
          <p role="status" className="strip mb-3">
            {told}
          </p>
        )}
        {hosts.length ? (
          <>
            <label className="lbl" htmlFor="host">
              {t("Terminal host")}
            </label>
            <Select
              id="host"
              label={t("Terminal host")}
              value={place ? `${place.environment} ${place.backend}` : ""}
              onChange={onPlace}
              options={hosts.map((one) => ({
                value: `${one.environment} ${one.backend}`,
                word: t("{0} in {1}, {2}", one.backend, one.environment, one.engine),
              }))}
            />
            <p className="mt-1 text-xs text-ink2">
              {t("A session of the pool is borrowed, signed on at its start screen. No secret is in the recording.")}
            </p>
            <button type="button" className="btn btn-main mt-3" aria-disabled={opening} onClick={onOpen}>
              {t("Open the terminal")}
            </button>
          </>
        ) : (
          <p className="text-ink2">{t("None is bound in an environment yet. Open a terminal at its address first.")}</p>
        )}
        {problems.length > 0 && (
          <div className="mt-3">
            <Problems problems={problems} />
          </div>
        )}
      </section>
      <section aria-label={t("A host that nobody has defined")}>
        <h2 className="mb-1 text-[15px] font-semibold">{t("A host that nobody has defined")}</h2>
        <p className="mb-3 text-ink2">
          {t("Sign on, pass what comes after, and stop on the screen that work begins from. Then connect it.")}
        </p>
        <StrangeForm opening={opening} onOpen={onStrange} />
      </section>
    </div>
  );
}
