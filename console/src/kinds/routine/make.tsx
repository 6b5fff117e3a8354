/** What is wanted of a routine: names, who may call it, and its rows, which show when it is called once. */
import { useState } from "react";
import { ask, type RoutineDetail, type RoutineDrafted } from "../../api";
import { useAct } from "../../act";
import { Problems, Select } from "../../parts/controls";
import { Labelled, TextField } from "../../parts/dialog";
import { MadeDrafts, MakeActs } from "../../parts/made-drafts";
import { Mark } from "../../parts/marks";
import { ShownFiles } from "../../parts/shown-files";
import { t } from "../../text";
import { OpenZones } from "./zones";

export function MakeOperation({
  routine,
  base,
  environment,
  onMade,
}: {
  routine: RoutineDetail;
  base: string;
  environment: string;
  onMade: () => void;
}) {
  const [name, setName] = useState("");
  const [service, setService] = useState("");
  const [operation, setOperation] = useState("");
  const [role, setRole] = useState("");
  const [zone, setZone] = useState("local");
  const [tried, setTried] = useState(false);
  const [values, setValues] = useState<Record<string, string>>({});
  const [draft, setDraft] = useState<RoutineDrafted | null>(null);
  const act = useAct();
  const taken = routine.parameters.filter((one) => one.way === "in" || one.way === "in-out");
  const open = routine.parameters.filter((one) => one.zone === "open");
  const ready = !act.busy && routine.reasons.length === 0;
  const run = (save: boolean) =>
    act.run(async () => {
      const given = Object.entries(values).filter(([, value]) => value !== "");
      const found = await ask<RoutineDrafted>("POST", `${base}/routines`, {
        routine: routine.name,
        signature: routine.signature,
        name,
        service,
        operation,
        roles: role
          .split(",")
          .map((one) => one.trim())
          .filter(Boolean),
        zone: open.length ? zone : "",
        try_with: tried ? Object.fromEntries(given) : null,
        save,
      });
      setDraft(found);
      if (save) onMade();
    });
  return (
    <form
      className="px-4 pt-3 pb-4"
      onSubmit={(event) => {
        event.preventDefault();
        if (ready) void run(true);
      }}
    >
      <h2 className="mb-2 text-[15px] font-semibold">{t("Make an operation")}</h2>
      <TextField label={t("Name")} hint={t("The routine's name when left empty")} value={name} onChange={setName} />
      <TextField
        label={t("Service")}
        hint={t("A new one that publishes it; none when left empty")}
        value={service}
        onChange={setService}
      />
      {service && (
        <TextField
          label={t("Operation")}
          hint={t("Called like the routine when left empty")}
          value={operation}
          onChange={setOperation}
        />
      )}
      {service && (
        <TextField
          label={t("Roles")}
          hint={t("Who may call it; nobody when left empty")}
          value={role}
          onChange={setRole}
        />
      )}
      {open.length > 0 && (
        <Labelled label={t("Moments of {0}", open.map((one) => one.name).join(", "))}>
          {(id) => (
            <Select
              id={id}
              label={t("Moments of {0}", open.map((one) => one.name).join(", "))}
              value={zone}
              onChange={setZone}
              options={[
                { value: "local", word: t("are the clock on the wall") },
                { value: "utc", word: t("are in UTC") },
              ]}
            />
          )}
        </Labelled>
      )}
      {routine.shows_rows && (
        <fieldset className="mb-2.5">
          <legend className="lbl">{t("Its rows")}</legend>
          <label className="flex items-start gap-2">
            <input type="checkbox" className="mt-1" checked={tried} onChange={() => setTried(!tried)} />
            <span>
              {t("Call it once in {0} to see them", environment)}
              <span className="block text-xs text-ink2">
                {t("What it does is rolled back; what it commits by itself would stay.")}
              </span>
            </span>
          </label>
          {tried && (
            <div className="mt-2">
              {taken.map((one) => (
                <TextField
                  key={one.name}
                  label={one.name}
                  hint={t("{0}; NULL when left empty", one.declared)}
                  value={values[one.name] ?? ""}
                  onChange={(value) => setValues({ ...values, [one.name]: value })}
                />
              ))}
            </div>
          )}
        </fieldset>
      )}
      <MakeActs ready={ready} onShow={() => void run(false)} />
      {act.problems.length > 0 && (
        <div className="mt-3">
          <Problems problems={act.problems} />
        </div>
      )}
      {draft?.left_out.map((one) => (
        <p key={one.name} className="mt-2 flex items-baseline gap-1.5 text-warn">
          <Mark name="risk" />
          <span>{t("{0} is left out: messages have no type for {1}.", one.name, one.declared)}</span>
        </p>
      ))}
      {draft && open.length === 0 && <OpenZones names={draft.open_zones} />}
      {draft?.unseen_rows && (
        <p className="mt-2 flex items-baseline gap-1.5 text-warn">
          <Mark name="risk" />
          <span>{t("If it gives rows, they are not in the definition.")}</span>
        </p>
      )}
      {draft?.saved && (
        <MadeDrafts
          paths={Object.keys(draft.files)}
          service={service}
          seen={{ word: t("Look at the definitions →"), path: "/definitions" }}
          environment={environment}
        />
      )}
      {draft && !draft.saved && <ShownFiles files={draft.files} />}
    </form>
  );
}
