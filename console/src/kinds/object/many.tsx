/** Publishing several tables at once by a rule: ticks, what would be made of each, and making it. */
import { useState } from "react";
import { Link } from "wouter";
import { ask, type ManyDrafted, type TableRow } from "../../api";
import { useAct } from "../../act";
import { plural } from "../../formats";
import { useLens, within } from "../../lens";
import { Problems } from "../../parts/controls";
import { TextField } from "../../parts/dialog";
import { Mark } from "../../parts/marks";
import { t } from "../../text";
import { OPERATIONS } from "./wish";

const MARKS = { new: "draft", extended: "draft", there: "serving", cannot: "risk" } as const;
const WORDS = {
  new: t("new"),
  extended: t("gets more"),
  there: t("is there"),
  cannot: t("cannot be"),
};

/** The tables with their ticks in the middle, and the rule beside them. */
export function ManyTables({ tables, base, onMade }: { tables: TableRow[]; base: string; onMade: () => void }) {
  const [view] = useLens();
  const act = useAct();
  const [off, setOff] = useState<string[]>(() => tables.filter((one) => one.reasons.length).map((one) => one.name));
  const [operations, setOperations] = useState<string[]>(["get", "find"]);
  const [service, setService] = useState("{schema}");
  const [role, setRole] = useState("");
  const [leftOut, setLeftOut] = useState("");
  const [rule, setRule] = useState("");
  const [plan, setPlan] = useState<ManyDrafted | null>(null);
  const chosen = tables.filter((one) => !off.includes(one.name)).map((one) => one.name);
  const changed = (change: () => void) => {
    change();
    setPlan(null);
  };
  const words = (text: string) =>
    text
      .split(",")
      .map((one) => one.trim())
      .filter(Boolean);
  const send = (save: boolean) =>
    act.run(async () => {
      const found = await ask<ManyDrafted>("POST", `${base}/many`, {
        operations,
        service,
        roles: words(role),
        left_out: words(leftOut),
        only: chosen,
        keep_as: rule,
        save,
      });
      setPlan(found);
      if (save) onMade();
    });
  const planned = new Map((plan?.tables ?? []).map((one) => [one.table, one]));
  const toggle = (list: string[], one: string) =>
    list.includes(one) ? list.filter((two) => two !== one) : [...list, one];
  return (
    <>
      <section aria-label={t("Several tables")} className="min-h-0 min-w-0 overflow-auto">
        <div className="px-5 pt-3 pb-2">
          <h1 className="text-[17px] font-semibold">{t("Several tables at once")}</h1>
          <p className="text-ink2">
            {t("Those that are ticked become objects and operations by one rule. Done again, it adds what is new.")}
          </p>
        </div>
        <table className="tbl">
          <thead>
            <tr>
              <th scope="col">
                <input
                  type="checkbox"
                  aria-label={t("All tables")}
                  checked={!tables.some((one) => !one.reasons.length && off.includes(one.name))}
                  onChange={(event) =>
                    changed(() =>
                      setOff(
                        tables.filter((one) => !event.target.checked || one.reasons.length).map((one) => one.name),
                      ),
                    )
                  }
                />
              </th>
              <th scope="col">{t("Table")}</th>
              <th scope="col" className="n">
                {t("Rows")}
              </th>
              <th scope="col">{t("What becomes of it")}</th>
              <th scope="col">{t("Operations that are added")}</th>
            </tr>
          </thead>
          <tbody>
            {tables.map((one) => {
              const told = planned.get(one.name);
              return (
                <tr key={one.name}>
                  <td>
                    <input
                      type="checkbox"
                      aria-label={one.name}
                      disabled={one.reasons.length > 0}
                      checked={!off.includes(one.name)}
                      onChange={() => changed(() => setOff((old) => toggle(old, one.name)))}
                    />
                  </td>
                  <th scope="row" className="font-mono text-[12.5px]">
                    {one.name}
                  </th>
                  <td className="n">{one.rows === null ? "–" : one.rows.toLocaleString("en")}</td>
                  <td>
                    {told ? (
                      <span className="flex items-center gap-1.5">
                        <Mark name={MARKS[told.action]} />
                        {WORDS[told.action]}
                        <span className="text-ink2">
                          {told.action === "cannot" ? told.reasons.join("; ") : `${told.object}, ${told.service}`}
                        </span>
                        {told.left_out.length > 0 && (
                          <span className="text-xs text-warn">{t("without {0}", told.left_out.join(", "))}</span>
                        )}
                      </span>
                    ) : (
                      <span className="text-ink3">{one.reasons[0] ?? one.used[0] ?? t("not published")}</span>
                    )}
                  </td>
                  <td>{told?.operations.join(", ")}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </section>
      <aside aria-label={t("The rule")} className="min-h-0 overflow-auto border-l border-line bg-inset">
        <form
          className="flex flex-col gap-3 px-4 pt-3 pb-4"
          onSubmit={(event) => {
            event.preventDefault();
            void send(plan !== null);
          }}
        >
          <fieldset>
            <legend className="mb-1 font-semibold">{t("Operations of each")}</legend>
            {OPERATIONS.map((one) => (
              <label key={one.name} className="flex items-center gap-2 py-0.5">
                <input
                  type="checkbox"
                  checked={operations.includes(one.name)}
                  onChange={() => changed(() => setOperations((old) => toggle(old, one.name)))}
                />
                {one.words}
              </label>
            ))}
          </fieldset>
          <TextField
            label={t("Service")}
            hint={t("One name, or by {schema} one service for each schema")}
            value={service}
            onChange={(next) => changed(() => setService(next))}
          />
          <TextField
            label={t("Roles that may call it")}
            value={role}
            onChange={(next) => changed(() => setRole(next))}
          />
          <TextField
            label={t("Columns left out")}
            hint={t("With * for anything, like created_*")}
            value={leftOut}
            onChange={(next) => changed(() => setLeftOut(next))}
          />
          <TextField
            label={t("Keep as rule")}
            hint={t("A name, to do the same again when tables are added")}
            value={rule}
            onChange={(next) => changed(() => setRule(next))}
          />
          <Problems problems={act.problems} />
          {plan?.saved ? (
            <p role="status">
              {t("{0} saved as drafts.", plural(Object.keys(plan.files).length, "definition"))}{" "}
              {plan.services.map((one) => (
                <Link key={one} href={within(`/services/${one}`, view)} className="act mr-2">
                  {one}
                </Link>
              ))}
            </p>
          ) : (
            <button
              type="submit"
              className="btn btn-main self-start"
              disabled={
                act.busy || !chosen.length || !operations.length || (plan !== null && !Object.keys(plan.files).length)
              }
            >
              {plan
                ? t("Save {0} as drafts", plural(Object.keys(plan.files).length, "definition"))
                : t("See what {0} become", plural(chosen.length, "table"))}
            </button>
          )}
        </form>
      </aside>
    </>
  );
}
