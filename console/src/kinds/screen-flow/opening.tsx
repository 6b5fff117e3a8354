/** Which host is walked through: chosen before its terminal is opened. */
import { type BackendEnd, type Problem } from "../../api";
import { Problems, Select } from "../../parts/controls";
import { t } from "../../text";

export function Opening({
  hosts,
  place,
  opening,
  problems,
  onPlace,
  onOpen,
}: {
  hosts: BackendEnd[];
  place: BackendEnd | undefined;
  opening: boolean;
  problems: Problem[];
  onPlace: (next: string) => void;
  onOpen: () => void;
}) {
  return (
    <div className="max-w-md px-5 py-4">
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
        <p className="text-ink2">
          {t(
            "No terminal host is bound in an environment yet. Define a backend with the engine tn3270 or tn5250, and bind it.",
          )}
        </p>
      )}
      {problems.length > 0 && (
        <div className="mt-3">
          <Problems problems={problems} />
        </div>
      )}
    </div>
  );
}
