/** What callers will see of a program, made anew with every tick; and saving it. */
import { useEffect, useState } from "react";
import { Link } from "wouter";
import { ask, ProblemError, type ContractLine, type KnownNames, type Problem, type ProgramDraft } from "../../api";
import { useAct } from "../../act";
import { useLens, within } from "../../lens";
import { Problems, Select } from "../../parts/controls";
import { Labelled, TextField } from "../../parts/dialog";
import { rich, t } from "../../text";
import { layoutOf, sidesOf, type AreaWork, type Held } from "./types";

/** Engines whose backends take records, the usual one first. */
const CARRIERS = ["program-host", "http", "files"];

export function Contract({
  areas,
  held,
  known,
  may,
  onSaved,
}: {
  areas: readonly AreaWork[];
  held: Held;
  known: KnownNames;
  may: boolean;
  onSaved: () => void;
}) {
  const [view] = useLens();
  const hosts = Object.entries(known.engines)
    .filter(([, engine]) => CARRIERS.includes(engine))
    .sort(([, one], [, other]) => CARRIERS.indexOf(one) - CARRIERS.indexOf(other))
    .map(([name]) => name);
  const [program, setProgram] = useState("");
  const [calls, setCalls] = useState("");
  const [backend, setBackend] = useState(hosts[0] ?? "");
  const [service, setService] = useState("");
  const [role, setRole] = useState("");
  const [writes, setWrites] = useState(true);
  const [draft, setDraft] = useState<ProgramDraft | null>(null);
  const [problems, setProblems] = useState<Problem[]>([]);
  const [saved, setSaved] = useState("");
  const act = useAct();
  const named = areas.map((one, index) => one.copybook.name || (index ? `copybook-${index + 1}` : "copybook"));
  const name = program || `${named[0] ?? ""}-program`;
  const chosen = (side: "inputs" | "outputs") =>
    areas.flatMap((one) => [...sidesOf(one)[side]].map((path) => (areas.length > 1 ? `${one.name}.${path}` : path)));
  const wish = {
    name,
    backend: backend || "nowhere",
    calls: calls || name.toUpperCase().replaceAll("-", ""),
    writes,
    held,
    copybooks: areas.map(({ copybook }, index) => ({ ...copybook, name: named[index] })),
    areas: areas.map((one, index) => ({
      name: one.name,
      copybook: named[index],
      record: layoutOf(one)?.record ?? "",
      use: one.use,
    })),
    inputs: chosen("inputs"),
    outputs: chosen("outputs"),
    service,
    roles: role ? [role] : [],
  };
  const body = JSON.stringify(wish);
  useEffect(() => {
    const timer = setTimeout(() => {
      ask<ProgramDraft>("POST", "/programs", JSON.parse(body)).then(
        (made) => {
          setDraft(made);
          setProblems([]);
        },
        (error: unknown) => {
          if (error instanceof ProblemError) setProblems(error.problems);
        },
      );
    }, 300);
    return () => clearTimeout(timer);
  }, [body]);
  const save = () =>
    act.run(async () => {
      await ask<ProgramDraft>("POST", "/programs", { ...wish, save: true });
      setSaved(service);
      onSaved();
    });
  return (
    <div className="grid min-h-0 grow grid-cols-[340px_minmax(0,1fr)_minmax(0,1fr)] gap-5 overflow-auto">
      <div className="grid grid-cols-2 content-start gap-x-3">
        <TextField label={t("Name of the program")} value={program} placeholder={name} onChange={setProgram} />
        <TextField label={t("Its name at the host")} value={calls} placeholder={wish.calls} onChange={setCalls} />
        <Labelled label={t("Where it runs")}>
          {(id) => (
            <Select
              id={id}
              label={t("Where it runs")}
              value={backend}
              options={hosts.map((value) => ({ value, word: value }))}
              onChange={setBackend}
              placeholder={t("no backend takes records yet")}
            />
          )}
        </Labelled>
        <TextField label={t("New service")} value={service} placeholder={t("none")} onChange={setService} />
        {service && (
          <Labelled label={t("Who may call it")}>
            {(id) => (
              <Select
                id={id}
                label={t("Who may call it")}
                value={role}
                options={["", ...(known.names.role ?? [])].map((value) => ({ value, word: value || t("nobody yet") }))}
                onChange={setRole}
              />
            )}
          </Labelled>
        )}
        <label className="col-span-2 mt-1 flex items-center gap-2">
          <input type="checkbox" checked={writes} onChange={(event) => setWrites(event.target.checked)} />
          {t("It changes something")}
        </label>
        {may && (
          <button
            type="button"
            className="btn btn-main col-span-2 mt-3 justify-self-start"
            aria-disabled={act.busy || !backend || problems.length > 0}
            onClick={() => {
              if (!act.busy && backend && !problems.length) void save();
            }}
          >
            {t("Save as drafts")}
          </button>
        )}
        {saved !== "" && (
          <p role="status" className="col-span-2 mt-2">
            {rich(
              "Saved. {0}",
              <Link className="act" href={within(`/services/${saved}`, view)}>
                {t("Look at {0}", saved)}
              </Link>,
            )}
          </p>
        )}
      </div>
      <div>
        <Problems problems={[...act.problems, ...problems]} />
        <Lines title={t("Input")} lines={draft?.input ?? []} />
      </div>
      <div>
        <Lines title={t("Output")} lines={draft?.output ?? []} />
        {draft && draft.faults.length > 0 && (
          <p className="mt-2 text-ink2">{t("Refusals that are told as faults: {0}.", draft.faults.join(", "))}</p>
        )}
      </div>
    </div>
  );
}

function Lines({ title, lines }: { title: string; lines: readonly ContractLine[] }) {
  return (
    <table className="tbl self-start" aria-label={title}>
      <thead>
        <tr>
          <th scope="col">{title}</th>
          <th scope="col">{t("Takes")}</th>
        </tr>
      </thead>
      <tbody>
        {lines.map((one, index) => (
          <tr key={index}>
            <td style={{ paddingLeft: 12 + one.depth * 14 }}>
              <b className="font-semibold">{one.name}</b>
              <span className="block font-mono text-xs whitespace-nowrap text-ink3">{one.item}</span>
            </td>
            <td className="text-ink2">
              {one.rule}
              {one.occurrence !== "required" && <span className="block text-xs">{one.occurrence}</span>}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
