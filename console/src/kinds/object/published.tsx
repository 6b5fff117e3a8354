/** Which operations of an object are published, and in which services. */
import { useState } from "react";
import { Link } from "wouter";
import { ask, type ObjectDetail } from "../../api";
import { useAct } from "../../act";
import { useLens, within } from "../../lens";
import { Problems, Select } from "../../parts/controls";
import { plural } from "../../formats";
import { rich, t } from "../../text";

export function Published({ detail, may, onChanged }: { detail: ObjectDetail; may: boolean; onChanged: () => void }) {
  const [view] = useLens();
  const act = useAct();
  const users = detail.services.map((one) => one.service);
  const [other, setOther] = useState("");
  const shown = [...users, ...(other && !users.includes(other) ? [other] : [])];
  const tick = (service: string, verb: string, on: boolean) =>
    act.run(async () => {
      await ask("PUT", `/services/${encodeURIComponent(service)}/operations`, { object: detail.name, verb, on });
      onChanged();
    });
  return (
    <div className="px-4 pt-3 pb-4">
      <h2 className="text-[15px] font-semibold">{t("Published operations")}</h2>
      <p className="mb-2 text-xs text-ink2">{t("Only what is ticked is in a contract, after the next release.")}</p>
      {act.problems.length > 0 && (
        <div className="mb-2">
          <Problems problems={act.problems} />
        </div>
      )}
      {shown.map((service) => {
        const named = detail.services.find((one) => one.service === service)?.operations ?? [];
        return (
          <fieldset key={service} className="mb-3 border-t border-line pt-1.5">
            <legend className="sr-only">{service}</legend>
            <p className="flex">
              <Link className="act" href={within(`/services/${service}`, view)}>
                {service}
              </Link>
              <span className="ml-auto text-xs text-ink2">{plural(named.length, "operation")}</span>
            </p>
            {detail.verbs.map((verb) => {
              const made = named.filter((one) => one.verb === verb);
              return (
                <label key={verb} className="flex items-center gap-2">
                  <input
                    type="checkbox"
                    disabled={!may || act.busy}
                    checked={made.length > 0}
                    onChange={(event) => void tick(service, verb, event.target.checked)}
                  />
                  <span className="font-mono text-[12.5px]">{verb}</span>
                  <span className="ml-auto truncate text-xs text-ink2">{made.map((one) => one.name).join(", ")}</span>
                </label>
              );
            })}
          </fieldset>
        );
      })}
      <Select
        label={t("Publish in another service")}
        value={other}
        onChange={setOther}
        placeholder={t("Publish in another service")}
        options={[
          { value: "", word: t("Publish in another service") },
          ...detail.all_services.filter((one) => !users.includes(one)).map((one) => ({ value: one, word: one })),
        ]}
      />
      <p className="mt-3 text-xs text-ink2">
        {rich(
          "Finders, parents and children are edited {0}.",
          <Link className="act" href={within(`/definitions?file=${encodeURIComponent(detail.path)}`, view)}>
            {t("as text")}
          </Link>,
        )}
      </p>
    </div>
  );
}
