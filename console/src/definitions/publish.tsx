/** Making a source callable: as an operation of a new service, or of one that there is. */
import { useState } from "react";
import { Link } from "wouter";
import { useAct } from "../act";
import { ask, type Overview } from "../api";
import { useLens, within } from "../lens";
import { useLoad } from "../load";
import { Problems } from "../parts/controls";
import { Panel, TextField } from "../parts/dialog";
import { Mark } from "../parts/marks";
import { t } from "../text";

interface Published {
  service: string;
  operation: string;
}

/** `runs` names the source as operations do. */
export function PublishPanel({
  runs,
  name,
  open,
  onClose,
  onDone,
}: {
  runs: string;
  name: string;
  open: boolean;
  onClose: () => void;
  onDone: () => void;
}) {
  const [view] = useLens();
  const overview = useLoad<Overview>(open ? "/overview" : null);
  const [service, setService] = useState("");
  const [operation, setOperation] = useState("");
  const [role, setRole] = useState("");
  const [done, setDone] = useState<Published>();
  const act = useAct();
  const names = (overview.data?.services ?? []).map((one) => one.name);
  const publish = () =>
    act.run(async () => {
      setDone(await ask<Published>("POST", "/publish", { runs, service, operation, role }));
      onDone();
    });
  const close = () => {
    setDone(undefined);
    act.clear();
    onClose();
  };
  return (
    <Panel title={t("Publish {0}", name)} open={open} onClose={close}>
      {done ? (
        <div role="status">
          <p className="flex items-center gap-2 font-semibold">
            <Mark name="draft" />
            {t("{0} is a draft.", `${done.service}.${done.operation}`)}
          </p>
          <p className="mt-2">
            <Link className="act" href={within(`/services/${done.service}`, view)}>
              {t("Look at {0}", done.service)}
            </Link>
          </p>
        </div>
      ) : (
        <form
          onSubmit={(event) => {
            event.preventDefault();
            if (service && !act.busy) void publish();
          }}
        >
          <TextField
            label={t("Service")}
            value={service}
            onChange={setService}
            list="publish-services"
            hint={
              names.includes(service)
                ? t("It gets one more operation; where it follows a contract, one of that runs this.")
                : t("A new one is made, with a contract of ours.")
            }
          />
          <datalist id="publish-services">
            {names.map((one) => (
              <option key={one} value={one} />
            ))}
          </datalist>
          <TextField
            label={t("Operation")}
            value={operation}
            onChange={setOperation}
            hint={t("Called as its source when left empty.")}
          />
          <TextField label={t("Role that may call it")} value={role} onChange={setRole} />
          {act.problems.length > 0 && (
            <div className="mb-2">
              <Problems problems={act.problems} />
            </div>
          )}
          <button type="submit" className="btn btn-main" aria-disabled={!service || act.busy}>
            {t("Make the draft")}
          </button>
          <p className="mt-1.5 text-xs text-ink3">{t("Nothing goes live by this.")}</p>
        </form>
      )}
    </Panel>
  );
}
