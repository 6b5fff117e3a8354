/** A process that runs elsewhere, brought in: what becomes of it, what is left, and what its open ends shall be. */
import { useState } from "react";
import { Link } from "wouter";
import { ask, type TakenProcess } from "../../api";
import { useAct } from "../../act";
import { DefinitionTabs } from "../../definitions/tabs";
import { serviceName, type Files } from "../../files";
import { useLens, within } from "../../lens";
import { Problems, Select } from "../../parts/controls";
import { TextField } from "../../parts/dialog";
import { DropFiles } from "../../parts/drop";
import { Mark } from "../../parts/marks";
import { mayAtLeast, useSession } from "../../session";
import { rich, t } from "../../text";

export default function ProcessPage() {
  const may = mayAtLeast(useSession(), "integrator");
  const [view] = useLens();
  const [files, setFiles] = useState<Files>({});
  const [service, setService] = useState("");
  const [role, setRole] = useState("");
  const [choices, setChoices] = useState<Record<string, string>>({});
  const [plan, setPlan] = useState<TakenProcess>();
  const act = useAct();
  const look = (found: Files, name: string, chosen: Record<string, string>) =>
    act.run(async () =>
      setPlan(
        await ask<TakenProcess>("POST", "/processes", {
          files: found,
          service: name,
          choices: chosen,
          plan_only: true,
        }),
      ),
    );
  const take = (found: Files) => {
    const process =
      Object.keys(found).find((one) => one.toLowerCase().endsWith(".bpel")) ?? Object.keys(found)[0] ?? "";
    const name = serviceName(process.replace(/^.*\//, "").replace(/\.\w+$/, ""));
    setFiles(found);
    setPlan(undefined);
    setChoices({});
    setService(name);
    if (process) void look(found, name, {});
  };
  const make = () =>
    act.run(async () =>
      setPlan(await ask<TakenProcess>("POST", "/processes", { files, service, role, choices, accept: true })),
    );
  const open = (plan?.endings ?? []).filter((one) => !one.chosen);
  return (
    <>
      <DefinitionTabs at="/definitions/processes" />
      <div className="grid min-h-0 grow grid-cols-[minmax(0,1fr)_300px]">
        <section aria-label={t("The process")} className="min-h-0 min-w-0 overflow-auto px-5 py-3">
          <h1 className="mb-2.5 text-[17px] font-semibold">{t("Bring in a process")}</h1>
          {may ? (
            <DropFiles
              label={t("Files of the process")}
              hint={t("or drop a process in WS-BPEL 2.0 here, with its WSDL documents: files, a folder, or a zip.")}
              names={Object.keys(files)}
              onTake={take}
            />
          ) : (
            <p className="text-ink2">{t("Bringing in a process needs the role integrator.")}</p>
          )}
          {act.problems.length > 0 && (
            <div className="mt-2">
              <Problems problems={act.problems} />
            </div>
          )}
          {!plan && may && !act.problems.length && (
            <p className="mt-2 text-ink2">
              {t(
                "What becomes of each part is shown here first, and what is not taken, with its line. Nothing is made before you say so.",
              )}
            </p>
          )}
          {plan && (
            <Plan
              plan={plan}
              onChoose={(id, choice) => {
                const next = { ...choices, [id]: choice };
                setChoices(next);
                void look(files, service, next);
              }}
            />
          )}
        </section>
        <aside
          aria-label={t("What becomes of it")}
          className="min-h-0 overflow-auto border-l border-line bg-inset px-4 py-3"
        >
          {plan?.applied ? (
            <div role="status">
              <p className="flex items-center gap-2 font-semibold">
                <Mark name="draft" />
                {t("{0} is a draft.", plan.service)}
              </p>
              <p className="mt-2 flex flex-col gap-1">
                {plan.workflows.map((one) => (
                  <Link key={one.name} className="act" href={within(`/workflows?workflow=${one.name}`, view)}>
                    {t("Look at the workflow {0}", one.name)}
                  </Link>
                ))}
                <Link className="act" href={within(`/services/${plan.service}`, view)}>
                  {t("Look at {0}", plan.service)}
                </Link>
              </p>
            </div>
          ) : plan ? (
            <form
              onSubmit={(event) => {
                event.preventDefault();
                if (service && !act.busy) void make();
              }}
            >
              <h2 className="mb-2 text-[15px] font-semibold">{t("Make a service")}</h2>
              <TextField label={t("Name here")} value={service} onChange={setService} />
              <TextField label={t("Role that may call all of it")} value={role} onChange={setRole} />
              <button type="submit" className="btn btn-main" aria-disabled={!service || act.busy}>
                {open.length ? t("Confirm the ends and make the drafts") : t("Make the drafts")}
              </button>
              <p className="mt-1.5 text-xs text-ink3">{t("Nothing goes live by this.")}</p>
            </form>
          ) : null}
        </aside>
      </div>
    </>
  );
}

function Plan({ plan, onChoose }: { plan: TakenProcess; onChoose: (id: string, choice: string) => void }) {
  return (
    <>
      {plan.endings.length > 0 && (
        <>
          <h2 className="mt-4 mb-1 text-[15px] font-semibold">{t("Ends that are no answer")}</h2>
          <ul className="flex flex-col">
            {plan.endings.map((one) => (
              <li
                key={one.id}
                className="grid grid-cols-[20px_64px_minmax(0,1fr)_210px] gap-x-1 border-t border-line py-1.5 last:border-b"
              >
                <Mark name={one.chosen ? "none" : "risk"} className="mt-0.5" />
                <span className="text-ink2">{one.id}</span>
                <span className="min-w-0">{one.what}</span>
                {plan.applied ? (
                  <span>{one.chosen || one.proposal}</span>
                ) : (
                  <Select
                    label={t("What callers get at {0}", one.id)}
                    value={one.chosen || one.proposal}
                    onChange={(choice) => onChoose(one.id, choice)}
                    options={one.options.map((option) => ({
                      value: option,
                      word: option === one.proposal ? t("{0} (proposed)", option) : option,
                    }))}
                  />
                )}
              </li>
            ))}
          </ul>
        </>
      )}
      {!plan.applied &&
        plan.changes
          .filter((one) => one.action === "changed")
          .map((one) => (
            <p key={`${one.kind} ${one.name}`} className="mt-2 flex gap-2">
              <Mark name="risk" className="mt-0.5" />
              {t("The {0} {1} is here already, and is replaced.", one.kind, one.name)}
            </p>
          ))}
      <LeftOut title={t("Not taken")} rows={plan.left.filter((one) => !one.taken)} />
      <LeftOut title={t("Taken in another way")} rows={plan.left.filter((one) => one.taken)} />
      <h2 className="mt-4 mb-1 text-[15px] font-semibold">{t("Whom it asks")}</h2>
      <ul className="flex flex-col">
        {plan.partners.map((one) => (
          <li key={one.link} className="border-t border-line py-1 last:border-b">
            {rich(
              one.new
                ? "{0} is asked by {1}, which is new: each environment says where it is"
                : "{0} is asked by {1}, which is here already",
              <b className="font-semibold">{one.link}</b>,
              <span className="font-mono text-[12.5px]">{one.calls}</span>,
            )}
          </li>
        ))}
      </ul>
      {plan.problems.length > 0 && (
        <>
          <h2 className="mt-4 mb-1 text-[15px] font-semibold">{t("Left to do")}</h2>
          <Problems problems={plan.problems} />
        </>
      )}
      {plan.workflows.map((one) => (
        <div key={one.name}>
          <h2 className="mt-4 mb-1 text-[15px] font-semibold">
            {t("The workflow {0}, which {1} runs", one.name, one.operation)}
          </h2>
          <pre className="max-h-96 overflow-auto rounded-[3px] border border-line bg-inset px-3 py-2 font-mono text-[12px] leading-[17px]">
            {one.text}
          </pre>
        </div>
      ))}
    </>
  );
}

function LeftOut({ title, rows }: { title: string; rows: TakenProcess["left"] }) {
  if (!rows.length) return null;
  return (
    <>
      <h2 className="mt-4 mb-1 text-[15px] font-semibold">{title}</h2>
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col">{t("Line")}</th>
            <th scope="col">{t("What")}</th>
            <th scope="col">{t("Why, or how")}</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((one, index) => (
            <tr key={index}>
              <td>{one.line}</td>
              <th scope="row">{one.what}</th>
              <td>{one.why}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
