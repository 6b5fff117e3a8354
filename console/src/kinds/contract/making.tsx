/** Making a service of a contract that was read: its name, who may call it, what answers, and where it is live at once. */
import { useState } from "react";
import { Link } from "wouter";
import {
  ask,
  type CallerRow,
  type Overview,
  type ReadContract,
  type TakenContract,
  type ContractChange,
} from "../../api";
import { useAct } from "../../act";
import { useLens, within } from "../../lens";
import { useLoad } from "../../load";
import { Problems, Select } from "../../parts/controls";
import { TextField } from "../../parts/dialog";
import { Mark } from "../../parts/marks";
import { plural } from "../../formats";
import { rich, t } from "../../text";
import { serviceName } from "../../files";
import type { Source } from "./source";

const NOWHERE = "";

interface Made {
  service: string;
  environment: string;
}

export function Making({
  contract,
  source,
  wanted,
  onMade,
}: {
  contract: ReadContract;
  source: Source;
  /** The service that is to be brought up to date; '' for a new one. */
  wanted: string;
  onMade: () => void;
}) {
  const [view] = useLens();
  const offered = Object.entries(contract.services)
    .filter(([, ports]) => Object.values(ports).some((one) => one.soap && Object.keys(one.operations).length))
    .map(([name]) => name);
  const overview = useLoad<Overview>("/overview");
  const callers = useLoad<CallerRow[]>("/callers");
  const [offers, setOffers] = useState(offered[0] ?? "");
  const [name, setName] = useState(wanted || serviceName(offered[0] ?? ""));
  const [role, setRole] = useState<string>();
  const [notBuilt, setNotBuilt] = useState<readonly string[]>([]);
  const [place, setPlace] = useState<string>();
  const [plan, setPlan] = useState<TakenContract>();
  const [made, setMade] = useState<Made>();
  const act = useAct();
  const known = overview.data?.services.some((one) => one.name === name) ?? false;
  const roles = [...new Set((callers.data ?? []).flatMap((one) => one.roles))].sort();
  // What is protected is deployed with its gates, on the page of releases.
  const open = (overview.data?.environments ?? []).filter((one) => !one.protected);
  const where = place ?? (known ? NOWHERE : (open[0]?.name ?? NOWHERE));
  const who = role ?? roles[0] ?? "";
  const operations = [
    ...new Set(
      Object.values(contract.services[offers] ?? {}).flatMap((one) => (one.soap ? Object.keys(one.operations) : [])),
    ),
  ];
  const body = { ...source, service: name, offers: offered.length > 1 ? offers : "", role: who, not_built: notBuilt };

  const make = () =>
    act.run(async () => {
      if (known && !plan) {
        setPlan(await ask<TakenContract>("POST", "/contracts/import", { ...body, plan_only: true }));
        return;
      }
      await ask<TakenContract>("POST", "/contracts/import", body);
      if (where) {
        const release = await ask<{ release: number }>("POST", `/services/${name}/releases`, {
          note: t("Taken in from a contract"),
        });
        await ask("POST", `/services/${name}/deployments`, { environment: where, release: release.release });
      }
      setMade({ service: name, environment: where });
      onMade();
    });

  // A proposal that comes while somebody writes would get into their words.
  if (!(callers.data ?? callers.error) || !(overview.data ?? overview.error)) return null;
  if (made)
    return (
      <div className="px-4 py-3" role="status">
        <p className="flex items-center gap-2 font-semibold">
          <Mark name={made.environment ? "serving" : "draft"} />
          {made.environment
            ? t("{0} is live in {1}.", made.service, made.environment)
            : t("{0} is a draft.", made.service)}
        </p>
        <p className="mt-1 text-ink2">
          {t("Its operations answer samples, marked as stubs, until something implements them.")}
        </p>
        <p className="mt-2 flex flex-col gap-1">
          {made.environment && (
            <Link className="act" href={within(`/tests?service=${made.service}`, made.environment)}>
              {t("Call it at the bench")}
            </Link>
          )}
          <Link className="act" href={within(`/services/${made.service}`, view)}>
            {t("Look at {0}", made.service)}
          </Link>
        </p>
      </div>
    );
  return (
    <form
      className="px-4 py-3"
      onSubmit={(event) => {
        event.preventDefault();
        if (name && !act.busy) void make();
      }}
    >
      <h2 className="mb-2 text-[15px] font-semibold">
        {known ? t("Bring a service up to date") : t("Make a service")}
      </h2>
      {offered.length > 1 && (
        <div className="mb-2.5">
          <span className="lbl">{t("Service of the contract")}</span>
          <Select
            label={t("Service of the contract")}
            value={offers}
            onChange={(next) => {
              setOffers(next);
              setName(wanted || serviceName(next));
              setPlan(undefined);
            }}
            options={offered.map((one) => ({ value: one, word: one }))}
          />
        </div>
      )}
      <TextField
        label={t("Name here")}
        value={name}
        onChange={(next) => {
          setName(next);
          setPlan(undefined);
        }}
      />
      {!known && (
        <>
          <TextField
            label={t("Role that may call all of it")}
            value={who}
            onChange={setRole}
            list="contract-roles"
            hint={roles.length ? t("Known: {0}", roles.join(", ")) : t("No caller has a role yet.")}
          />
          <datalist id="contract-roles">
            {roles.map((one) => (
              <option key={one} value={one} />
            ))}
          </datalist>
          <fieldset className="mb-2.5">
            <legend className="lbl">{t("Until it is built, it answers")}</legend>
            <table className="tbl">
              <thead>
                <tr>
                  <th scope="col">{t("Operation")}</th>
                  <th scope="col">{t("“not built yet”")}</th>
                </tr>
              </thead>
              <tbody>
                {operations.map((one) => (
                  <tr key={one}>
                    <th scope="row" className="break-all">
                      {one}
                    </th>
                    <td>
                      <input
                        type="checkbox"
                        aria-label={t("{0} answers that it is not built yet", one)}
                        checked={notBuilt.includes(one)}
                        onChange={(event) =>
                          setNotBuilt(event.target.checked ? [...notBuilt, one] : notBuilt.filter((two) => two !== one))
                        }
                      />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            <p className="mt-0.5 text-xs text-ink3">
              {t("The others answer a sample that is made from the contract.")}
            </p>
          </fieldset>
        </>
      )}
      <div className="mb-2.5">
        <span className="lbl">{t("Live at once in")}</span>
        <Select
          label={t("Live at once in")}
          value={where}
          onChange={setPlace}
          options={[
            { value: NOWHERE, word: t("nowhere yet") },
            ...open.map((one) => ({ value: one.name, word: one.name })),
          ]}
        />
      </div>
      {plan && <Changes changes={plan.for_callers} />}
      {plan && <Breaks problems={plan.breaks} />}
      {act.problems.length > 0 && (
        <div className="mb-2">
          <Problems problems={act.problems} />
        </div>
      )}
      <button type="submit" className="btn btn-main" aria-disabled={!name || act.busy || !contract.usable}>
        {known && !plan
          ? t("Show what changes")
          : known
            ? t("Bring it up to date")
            : where
              ? t("Make it live in {0}", where)
              : t("Make the service")}
      </button>
    </form>
  );
}

/** Maps and workflows that fit together now, and would not any more. */
function Breaks({ problems }: { problems: TakenContract["breaks"] }) {
  if (!problems.length) return null;
  return (
    <div className="mb-2.5" role="alert">
      <p className="mb-1 font-semibold text-bad">{rich("It breaks {0} elsewhere", plural(problems.length, "thing"))}</p>
      <ul className="flex flex-col gap-1">
        {problems.map((one, index) => (
          <li key={index} className="flex gap-2">
            <Mark name="fault" />
            <span className="min-w-0">
              <span className="font-mono text-[12px] break-all">{one.place}</span> {one.message}
              {one.expected && <> {t("Expected {0}.", one.expected)}</>}
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}

const MARKS = { breaking: "fault", "compatible for readers": "risk", compatible: "serving" } as const;

function Changes({ changes }: { changes: ContractChange[] }) {
  if (!changes.length) return <p className="mb-2 text-ink2">{t("Nothing changes for callers.")}</p>;
  return (
    <div className="mb-2.5">
      <p className="mb-1 font-semibold">{rich("For callers: {0}", plural(changes.length, "change"))}</p>
      <ul className="flex flex-col gap-1">
        {changes.map((one, index) => (
          <li key={index} className="flex gap-2">
            <Mark name={MARKS[one.verdict as keyof typeof MARKS] ?? "risk"} />
            <span className="min-w-0">
              <span className="font-mono text-[12px] break-all">{one.place}</span> {one.message}
            </span>
          </li>
        ))}
      </ul>
      <p className="mt-1 text-xs text-ink3">{t("The maps of its operations stay.")}</p>
    </div>
  );
}
