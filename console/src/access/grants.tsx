/** Grants: which roles may call what in which environment; said there, in effect at once, with who gets or loses what told first. */
import { Fragment, useEffect, useState } from "react";
import { ask, ProblemError, type Granted, type PlaceGrants, type Problem } from "../api";
import { useAct } from "../act";
import { useLoad } from "../load";
import { ActsHead, Problems } from "../parts/controls";
import { Panel, TextField } from "../parts/dialog";
import { mayAtLeast, useSession } from "../session";
import { plural } from "../formats";
import { t } from "../text";

interface Edited {
  place: PlaceGrants;
  role: string;
  operations: string[];
  all: boolean;
}

export function Grants() {
  const admin = mayAtLeast(useSession(), "admin");
  const { data, reload } = useLoad<PlaceGrants[]>("/access", 30);
  const [edited, setEdited] = useState<Edited | null>(null);
  const [moving, setMoving] = useState(false);
  if (!data) return null;
  const why = admin ? undefined : t("Changing grants needs the role admin");
  const released = new Set(data.filter((one) => one.said_in === "service").map((one) => one.service)).size;
  const environments = [...new Set(data.map((one) => one.environment))];
  return (
    <>
      <div className="flex items-center gap-3 px-5 py-2">
        <p className="text-ink2">
          {t("What an environment says here is in effect at once; no release is needed. Callers have roles.")}
        </p>
        {released > 0 && (
          <button
            type="button"
            className="btn ml-auto"
            aria-disabled={!admin}
            title={why}
            onClick={() => admin && setMoving(true)}
          >
            {t("Move {0} here from releases", plural(released, "service"))}
          </button>
        )}
      </div>
      {!data.length && (
        <p className="px-5 py-2 text-ink2">{t("No service is deployed yet, so nothing can be called.")}</p>
      )}
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col">{t("Service")}</th>
            <th scope="col">{t("Role")}</th>
            <th scope="col">{t("May call")}</th>
            <th scope="col">{t("Callers")}</th>
            <th scope="col">{t("Said by")}</th>
            <ActsHead />
          </tr>
        </thead>
        <tbody>
          {environments.map((environment) => (
            <Fragment key={environment}>
              <tr>
                <th scope="rowgroup" colSpan={6} className="pt-4! text-[13px] font-semibold">
                  {environment}
                </th>
              </tr>
              {data
                .filter((one) => one.environment === environment)
                .flatMap((place) =>
                  (place.roles.length ? place.roles : [null]).map((role, index) => (
                    <tr key={`${place.service} ${role?.role ?? ""}`}>
                      <th scope="row">
                        {index === 0 ? place.service : <span className="sr-only">{place.service}</span>}
                      </th>
                      <td>
                        {role ? role.role : place.roles.length ? "" : <span className="text-warn">{t("nobody")}</span>}
                      </td>
                      <td>{role ? (role.all ? t("all operations") : role.operations.join(", ")) : ""}</td>
                      <td>
                        {role ? role.callers.join(", ") || <span className="text-warn">{t("no caller")}</span> : ""}
                      </td>
                      <td className="text-ink2">
                        {index === 0 ? (place.said_in === "environment" ? t("the environment") : t("its release")) : ""}
                      </td>
                      <td className="n whitespace-nowrap">
                        {role && (
                          <button
                            type="button"
                            className="act"
                            aria-disabled={!admin}
                            title={why}
                            aria-label={t("Change {0} of {1}", role.role, place.service)}
                            onClick={() => admin && setEdited({ ...role, place })}
                          >
                            {t("Change")}
                          </button>
                        )}
                        {index === 0 && (
                          <button
                            type="button"
                            className="act ml-3"
                            aria-disabled={!admin}
                            title={why}
                            aria-label={t("Add a role to {0}", place.service)}
                            onClick={() => admin && setEdited({ place, role: "", operations: [], all: true })}
                          >
                            {t("Add a role")}
                          </button>
                        )}
                      </td>
                    </tr>
                  )),
                )}
            </Fragment>
          ))}
        </tbody>
      </table>
      <Panel
        title={edited ? t("Who may call {0} in {1}", edited.place.service, edited.place.environment) : ""}
        open={edited !== null}
        onClose={() => setEdited(null)}
      >
        {edited && (
          <GrantForm
            of={edited}
            onDone={() => {
              setEdited(null);
              reload();
            }}
          />
        )}
      </Panel>
      <Panel title={t("Move grants from releases")} open={moving} onClose={() => setMoving(false)}>
        {moving && (
          <MoveForm
            onDone={() => {
              setMoving(false);
              reload();
            }}
          />
        )}
      </Panel>
    </>
  );
}

/** A role's operations, and what changing them does, before it is done. */
function GrantForm({ of, onDone }: { of: Edited; onDone: () => void }) {
  const [role, setRole] = useState(of.role);
  const [all, setAll] = useState(of.all);
  const [chosen, setChosen] = useState(of.operations);
  const [plan, setPlan] = useState<Granted | null>(null);
  const act = useAct();
  const path = `/access/${of.place.environment}/${of.place.service}/${role}`;
  const send = (planOnly: boolean) =>
    act.run(async () => {
      const told = await ask<Granted>("PUT", path, { operations: all ? "all" : chosen, plan_only: planOnly });
      if (planOnly) setPlan(told);
      else onDone();
    });
  const changed = (change: () => void) => {
    change();
    setPlan(null);
  };
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        void send(plan === null);
      }}
    >
      {!of.role && <TextField label={t("Role")} value={role} onChange={(next) => changed(() => setRole(next))} />}
      {of.role && <p className="font-semibold">{of.role}</p>}
      <fieldset className="flex flex-col gap-1">
        <legend className="mb-1 text-ink2">{t("May call")}</legend>
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={all} onChange={(event) => changed(() => setAll(event.target.checked))} />
          {t("all operations, those that are added later too")}
        </label>
        {!all &&
          of.place.operations.map((one) => (
            <label key={one} className="ml-5 flex items-center gap-2">
              <input
                type="checkbox"
                checked={chosen.includes(one)}
                onChange={(event) =>
                  changed(() =>
                    setChosen((old) => (event.target.checked ? [...old, one] : old.filter((two) => two !== one))),
                  )
                }
              />
              {one}
            </label>
          ))}
      </fieldset>
      <Problems problems={act.problems} />
      {plan && <Rights plan={plan} />}
      <button type="submit" className="btn btn-main self-start" disabled={act.busy || !role}>
        {plan ? t("Do it, at once") : t("See what it changes")}
      </button>
    </form>
  );
}

function MoveForm({ onDone }: { onDone: () => void }) {
  const act = useAct();
  const [plan, setPlan] = useState<Granted | null>(null);
  const [refused, setRefused] = useState<Problem[]>([]);
  useEffect(() => {
    ask<Granted>("POST", "/access/move", { plan_only: true }).then(setPlan, (error: unknown) => {
      if (error instanceof ProblemError) setRefused(error.problems);
      else throw error;
    });
  }, []);
  return (
    <div className="flex flex-col gap-3">
      <p>
        {t(
          "What services state for themselves is said by the environments that they run in, and taken out of their drafts.",
        )}
      </p>
      {plan && <Rights plan={plan} />}
      <Problems problems={[...refused, ...act.problems]} />
      <button
        type="button"
        className="btn btn-main self-start"
        disabled={act.busy || !plan}
        onClick={() =>
          void act.run(async () => {
            await ask("POST", "/access/move", {});
            onDone();
          })
        }
      >
        {t("Move them, at once")}
      </button>
    </div>
  );
}

function Rights({ plan }: { plan: Granted }) {
  if (!plan.rights.length) return <p>{t("Nobody gets or loses a right.")}</p>;
  return (
    <ul className="flex flex-col gap-1" aria-label={t("What it changes")}>
      {plan.rights.map((one) => (
        <li key={`${one.operation} ${one.role}`} className={one.gained ? "" : "text-bad"}>
          {one.gained ? "+ " : "− "}
          {one.words}
          {!one.gained && one.used_by.length > 0 && (
            <span> {t("{0} called it in the last month.", one.used_by.join(", "))}</span>
          )}
        </li>
      ))}
    </ul>
  );
}
