/** What the contract of somebody else decides for an operation: locked, and what differs from it on purpose, with the way back. */
import { Lock, LockOpen, Undo2 } from "lucide-react";
import { useState } from "react";
import { ask, type OperationShape } from "../api";
import { useAct } from "../act";
import { Problems } from "../parts/controls";
import { mayAtLeast, useSession } from "../session";
import { t } from "../text";
import { Implementing } from "./implementing";

type Said = NonNullable<OperationShape["contract"]>[number];

const WORDS: Record<string, string> = {
  namespace: t("Namespace"),
  soap: t("SOAP version"),
  style: t("Style"),
  exchange: t("Exchange"),
  request: t("Element of the request"),
  answer: t("Element of the answer"),
  faults: t("Faults"),
  headers: t("Header blocks"),
  soap_action: t("SOAPAction"),
  description: t("Description"),
};

/** Expanded names without the namespace that stands above them. */
const short = (text: string, namespace: string) => text.replaceAll(`{${namespace}}`, "");

/** Who unlocks a field wants to write in it. */
const focus = (input: HTMLInputElement | null) => input?.focus();

export function FromContract({
  service,
  operation,
  runs,
  said,
  onChanged,
}: {
  service: string;
  operation: string;
  runs: string;
  said: Said[];
  onChanged: () => void;
}) {
  const may = mayAtLeast(useSession(), "integrator");
  const [open, setOpen] = useState<{ setting: string; value: string }>();
  const act = useAct();
  const namespace = said.find((one) => one.setting === "namespace")?.used ?? "";
  const change = (setting: string, value: string | null) =>
    void act.run(async () => {
      const path = [service, "operations", operation, "contract", setting].map(encodeURIComponent).join("/");
      await (value === null ? ask("DELETE", `/services/${path}`) : ask("PUT", `/services/${path}`, { value }));
      setOpen(undefined);
      onChanged();
    });
  return (
    <>
      <table className="tbl mt-2 table-fixed" aria-label={t("From the contract")}>
        <colgroup>
          <col className="w-[164px]" />
          <col />
          <col className="w-[184px]" />
        </colgroup>
        <thead>
          <tr>
            <th scope="col">{t("From the contract")}</th>
            <th scope="col">{t("Value")}</th>
            <th scope="col" />
          </tr>
        </thead>
        <tbody>
          {said.map((one) => (
            <tr key={one.setting}>
              <th scope="row" className="font-semibold">
                {WORDS[one.setting] ?? one.setting}
              </th>
              <td className="py-1!">
                {open?.setting === one.setting ? (
                  <form
                    className="flex items-center gap-2"
                    onSubmit={(event) => {
                      event.preventDefault();
                      if (!act.busy) change(one.setting, open.value);
                    }}
                  >
                    <input
                      aria-label={WORDS[one.setting] ?? one.setting}
                      className="field min-w-0 grow"
                      ref={focus}
                      value={open.value}
                      onChange={(event) => setOpen({ setting: one.setting, value: event.target.value })}
                    />
                    <button type="submit" className="btn" aria-disabled={act.busy}>
                      {t("Differ")}
                    </button>
                    <button type="button" className="btn" onClick={() => setOpen(undefined)}>
                      {t("Leave it")}
                    </button>
                  </form>
                ) : (
                  <>
                    <span
                      className={one.setting === "description" ? "" : "font-mono text-[12.5px] break-all"}
                      title={one.used}
                    >
                      {short(one.used, namespace) || <span className="text-ink3">{t("empty")}</span>}
                    </span>
                    {one.differs && (
                      <span className="block text-xs text-ink2">
                        {t("The contract says: {0}", one.contract || t("empty"))}
                      </span>
                    )}
                  </>
                )}
              </td>
              <td className="py-1!">
                {one.differs ? (
                  <span className="flex flex-col items-start gap-0.5">
                    <span className="font-semibold text-warn">{t("differs from the contract")}</span>
                    {may && (
                      <button type="button" className="act" onClick={() => !act.busy && change(one.setting, null)}>
                        <Undo2 size={13} strokeWidth={1.75} className="mr-1 inline" />
                        {t("Back to the contract")}
                      </button>
                    )}
                  </span>
                ) : one.may_differ && may ? (
                  open?.setting !== one.setting && (
                    <button
                      type="button"
                      className="act"
                      aria-label={t("Unlock {0}", WORDS[one.setting] ?? one.setting)}
                      onClick={() => setOpen({ setting: one.setting, value: one.used })}
                    >
                      <LockOpen size={13} strokeWidth={1.75} className="mr-1 inline" />
                      {t("Unlock")}
                    </button>
                  )
                ) : (
                  <span
                    className="text-ink3"
                    title={t("Callers hold the contract and its messages, so this cannot differ.")}
                  >
                    <Lock size={13} strokeWidth={1.75} className="mr-1 inline" />
                    {t("locked")}
                  </span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {act.problems.length > 0 && (
        <div className="px-5 py-2">
          <Problems problems={act.problems} />
        </div>
      )}
      {may && <Implementing service={service} operation={operation} runs={runs} onChanged={onChanged} />}
    </>
  );
}
