/** What stands around every operation of a service, and who is told of failures in each environment. */
import { useState } from "react";
import { ask, type Language, type ServiceDetail } from "../api";
import { useAct } from "../act";
import { useLoad } from "../load";
import { Problems } from "../parts/controls";
import { Panel, TextField } from "../parts/dialog";
import { Mark } from "../parts/marks";
import { t } from "../text";

const WORDS = { before: t("Before each"), after: t("After each"), unforeseen: t("Told of failures") } as const;

export function Around({ service, may, onChanged }: { service: ServiceDetail; may: boolean; onChanged: () => void }) {
  const [open, setOpen] = useState(false);
  const sides = (Object.keys(WORDS) as (keyof typeof WORDS)[]).filter((one) => service.around[one]);
  return (
    <>
      <h2 className="px-4 pt-4 pb-1 font-semibold">{t("Around all of them")}</h2>
      <dl className="px-4 text-xs">
        {sides.map((one) => (
          <div key={one}>
            <dt className="text-ink2">{WORDS[one]}</dt>
            <dd className="mb-1.5 break-words">{service.around[one]}</dd>
          </div>
        ))}
        {service.told.map((one) => (
          <dd key={one.environment} className="mb-1 flex gap-1.5">
            <Mark name={one.operation ? "serving" : "risk"} />
            <span className="min-w-0 break-words">
              {one.operation ? t("{0}: {1}", one.environment, one.operation) : t("{0}: not bound", one.environment)}
            </span>
          </dd>
        ))}
        {!sides.length && <dd className="text-ink2">{t("nothing")}</dd>}
      </dl>
      {may && (
        <p className="px-4 pt-1">
          <button type="button" className="act text-xs" onClick={() => setOpen(true)}>
            {t("Change it")}
          </button>
        </p>
      )}
      {open && <Changing service={service} onClose={() => setOpen(false)} onChanged={onChanged} />}
    </>
  );
}

function Changing({
  service,
  onClose,
  onChanged,
}: {
  service: ServiceDetail;
  onClose: () => void;
  onChanged: () => void;
}) {
  const language = useLoad<Language>("/workflows-language");
  const [around, setAround] = useState(service.around);
  const act = useAct();
  const save = () =>
    act.run(async () => {
      await ask("PUT", `/services/${service.name}/around`, around);
      onChanged();
      onClose();
    });
  return (
    <Panel title={t("Around all operations of {0}", service.name)} open onClose={onClose}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (!act.busy) void save();
        }}
      >
        <TextField
          label={t("Before each operation")}
          value={around.before}
          onChange={(before) => setAround({ ...around, before })}
          list="around-offers"
          placeholder="workflow check-hours"
          hint={t("What it fails with, the caller gets, and the operation is not run.")}
        />
        <TextField
          label={t("After each operation")}
          value={around.after}
          onChange={(after) => setAround({ ...around, after })}
          list="around-offers"
          placeholder="workflow note-down"
          hint={t("When it fails, the answer stands, and the handler is told.")}
        />
        <datalist id="around-offers">
          {(language.data?.offers ?? []).map((one) => (
            <option key={one.call} value={one.call} />
          ))}
        </datalist>
        <TextField
          label={t("Who is told of failures that nobody foresaw")}
          value={around.unforeseen}
          onChange={(unforeseen) => setAround({ ...around, unforeseen })}
          placeholder="error-desk"
          hint={t("A name that each environment binds to an operation, under handlers.")}
        />
        {act.problems.length > 0 && (
          <div className="mb-2">
            <Problems problems={act.problems} />
          </div>
        )}
        <button type="submit" className="btn btn-main" aria-disabled={act.busy}>
          {t("Make the draft")}
        </button>
      </form>
    </Panel>
  );
}
