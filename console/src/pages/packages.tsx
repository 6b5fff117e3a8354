/** Packages: those that are kept, what one would do here with everything that does not fit, and taking it in. */
import { Package, PackagePlus, Plus } from "lucide-react";
import { useEffect, useState } from "react";
import { useAddress } from "../address";
import { ask, type KeptPackage, type Language, type PackageMismatch, type TakenPackage } from "../api";
import { useAct } from "../act";
import { DefinitionTabs } from "../definitions/tabs";
import type { Files } from "../files";
import { plural } from "../formats";
import { useLoad } from "../load";
import { NotLoaded, Problems, Select } from "../parts/controls";
import { TextField } from "../parts/dialog";
import { DropFiles } from "../parts/drop";
import { Mark } from "../parts/marks";
import { mayAtLeast, useSession } from "../session";
import { rich, t } from "../text";
import { Packing } from "./packing";

type Texts = Record<string, string>;

const STATES: Record<string, string> = {
  new: t("new"),
  same: t("is here already"),
  kept: t("ours stays"),
  replaces: t("takes the place of ours"),
  renamed: t("new, renamed"),
};

export default function PackagesPage() {
  const may = mayAtLeast(useSession(), "integrator");
  const [search, setSearch] = useAddress();
  const list = useLoad<KeptPackage[]>("/packages", 20);
  const [dropped, setDropped] = useState<{ content: string; file: string }>();
  const packing = search.get("make") !== null;
  const name = packing ? "" : (search.get("package") ?? (dropped ? "" : (list.data?.[0]?.name ?? "")));
  const kept = list.data?.find((one) => one.name === name);
  const act = useAct();
  const take = (files: Files) => {
    const [file, content] = Object.entries(files)[0] ?? ["", ""];
    if (!content) return;
    setDropped({ content, file });
    setSearch({ package: null });
  };

  if (list.error && !list.data) return <NotLoaded error={list.error} />;
  if (!list.data) return null;
  return (
    <>
      <DefinitionTabs at="/definitions/packages" />
      <div className="grid min-h-0 grow grid-cols-[232px_minmax(0,1fr)]">
        <nav aria-label={t("Packages")} className="min-h-0 overflow-auto border-r border-line bg-inset">
          {may && (
            <button
              type="button"
              aria-pressed={!name && !packing}
              onClick={() => setSearch({ package: "", make: null })}
              className={`flex w-full items-center gap-2 border-b border-line px-4 py-2 text-left font-semibold ${name || packing ? "" : "chosen"}`}
            >
              <Plus size={15} strokeWidth={1.75} className="text-ink3" />
              {t("Bring a package")}
            </button>
          )}
          {may && (
            <button
              type="button"
              aria-pressed={packing}
              onClick={() => {
                setDropped(undefined);
                setSearch({ package: null, make: "yes" });
              }}
              className={`flex w-full items-center gap-2 border-b border-line px-4 py-2 text-left font-semibold ${packing ? "chosen" : ""}`}
            >
              <PackagePlus size={15} strokeWidth={1.75} className="text-ink3" />
              {t("Make a package")}
            </button>
          )}
          {list.data.map((one) => (
            <button
              key={`${one.name} ${one.version}`}
              type="button"
              aria-pressed={one.name === name}
              onClick={() => {
                setDropped(undefined);
                setSearch({ package: one.name, make: null });
              }}
              className={`block w-full border-b border-line px-4 py-1.5 text-left ${one.name === name ? "chosen" : ""}`}
            >
              <span className="flex items-center gap-2">
                <Package size={15} strokeWidth={1.75} className="shrink-0 text-ink3" />
                <b className="truncate font-semibold">{one.name}</b>
                <span className="ml-auto text-xs text-ink2">{one.version}</span>
              </span>
              <span className="block truncate text-xs text-ink2">
                {one.parameters.length
                  ? t("template, {0} to be filled in", one.parameters.length)
                  : plural(one.files.length, "part")}
              </span>
            </button>
          ))}
          {!list.data.length && <p className="px-4 py-2 text-ink2">{t("None is kept here yet.")}</p>}
        </nav>
        {packing ? (
          <Packing onMade={list.reload} />
        ) : !name && !dropped ? (
          <section aria-label={t("Bring a package")} className="min-h-0 overflow-auto px-5 py-3">
            <h1 className="mb-2.5 text-[17px] font-semibold">{t("Bring a package")}</h1>
            {may ? (
              <>
                <DropFiles
                  label={t("The package")}
                  hint={t("or drop the zip of a package here.")}
                  names={[]}
                  onTake={take}
                />
                <p className="mt-2 text-ink2">
                  {t("Everything in it that does not fit here is shown first. Nothing is made before you say so.")}
                </p>
              </>
            ) : (
              <p className="text-ink2">{t("Taking in a package needs the role integrator.")}</p>
            )}
            {act.problems.length > 0 && <Problems problems={act.problems} />}
          </section>
        ) : (
          <Fitting
            key={dropped?.content ?? `${kept?.name} ${kept?.version}`}
            source={dropped ? { content: dropped.content } : { name: kept?.name ?? "", version: kept?.version ?? "" }}
            kept={dropped ? undefined : kept}
            may={may}
            onTaken={(taken) => {
              list.reload();
              setDropped(undefined);
              setSearch({ package: taken.name });
            }}
          />
        )}
      </div>
    </>
  );
}

/** One package held against what is here. */
function Fitting({
  source,
  kept,
  may,
  onTaken,
}: {
  source: { content: string } | { name: string; version: string };
  kept: KeptPackage | undefined;
  may: boolean;
  onTaken: (taken: TakenPackage) => void;
}) {
  const [values, setValues] = useState<Texts>({});
  const [choices, setChoices] = useState<Texts>({});
  const [plan, setPlan] = useState<TakenPackage>();
  const [done, setDone] = useState<TakenPackage>();
  const language = useLoad<Language>("/workflows-language");
  const look = useAct();
  const act = useAct();
  const body = JSON.stringify({ ...source, values: filledOnly(values), choices });
  useEffect(() => {
    const timer = setTimeout(() => {
      void look.run(async () => setPlan(await ask<TakenPackage>("POST", "/packages/plan", JSON.parse(body))));
    }, 300);
    return () => clearTimeout(timer);
    // What is asked is in the body.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [body]);
  const open = (plan?.mismatches ?? []).filter((one) => one.options.length > 0 && !one.chosen);
  const stops = (plan?.mismatches ?? []).some((one) => one.stops);
  const make = () =>
    act.run(async () => {
      const taken = await ask<TakenPackage>("POST", "/packages/take", { ...JSON.parse(body), align: true });
      setDone(taken);
      onTaken(taken);
    });

  if (!plan)
    return (
      <section className="px-5 py-3" aria-label={t("The package")}>
        {look.problems.length > 0 && <Problems problems={look.problems} />}
      </section>
    );
  return (
    <section
      className="grid min-h-0 min-w-0 grid-cols-[minmax(0,1fr)_320px] overflow-hidden"
      aria-label={t("The package")}
    >
      <div className="min-h-0 overflow-auto px-5 py-3">
        <h1 className="text-[17px] font-semibold">
          {plan.name} <span className="font-normal text-ink2">{plan.version}</span>
        </h1>
        <p>{plan.description}</p>
        <p className="text-ink2">
          {plan.origin
            ? rich("Made {0} by {1}, {2}", plan.date, plan.origin, age(plan.days))
            : rich("Made {0}, {1}", plan.date, age(plan.days))}
          {plan.backends.length > 0 && (
            <> · {t("needs {0}", plan.backends.map((one) => `${one.name} (${one.engine})`).join(", "))}</>
          )}
        </p>
        {look.problems.length > 0 && (
          <div className="mt-2">
            <Problems problems={look.problems} />
          </div>
        )}
        <h2 className="mt-3 mb-1 text-[15px] font-semibold">{t("Parts")}</h2>
        <table className="tbl">
          <thead>
            <tr>
              <th scope="col">{t("Part")}</th>
              <th scope="col">{t("Age")}</th>
              <th scope="col">{t("Becomes here")}</th>
              <th scope="col">{t("State")}</th>
            </tr>
          </thead>
          <tbody>
            {plan.parts.map((one) => (
              <tr key={`${one.kind} ${one.name}`}>
                <th scope="row">
                  <span className="text-ink2">{one.kind}</span> {one.name}
                  {one.hollow && (
                    <span className="flex gap-1.5 text-xs font-normal text-ink2">
                      <Mark name="risk" />
                      {one.hollow}
                    </span>
                  )}
                </th>
                <td className="whitespace-nowrap">{age(one.days)}</td>
                <td>{one.state === "kept" || one.state === "same" ? one.name : one.becomes}</td>
                <td className={one.state === "same" ? "text-ink2" : ""}>{STATES[one.state]}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {plan.mismatches.length > 0 && (
          <>
            <h2 className="mt-4 mb-1 text-[15px] font-semibold">{t("What does not fit here")}</h2>
            <ul className="flex flex-col">
              {plan.mismatches.map((one, index) => (
                <MismatchRow
                  key={`${one.id} ${one.code} ${index}`}
                  one={one}
                  onChoose={(choice) => setChoices({ ...choices, [one.id]: choice })}
                />
              ))}
            </ul>
          </>
        )}
        {plan.problems.length > 0 && (
          <>
            <h2 className="mt-4 mb-1 text-[15px] font-semibold">{t("Afterwards this would not fit together")}</h2>
            <Problems problems={plan.problems} />
          </>
        )}
        {kept && kept.made_here.length > 0 && (
          <>
            <h2 className="mt-4 mb-1 text-[15px] font-semibold">{t("Came out of it here")}</h2>
            <table className="tbl">
              <tbody>
                {kept.made_here.map((one) => (
                  <tr key={`${one.kind} ${one.name}`}>
                    <th scope="row">
                      <span className="text-ink2">{one.kind}</span> {one.name}
                    </th>
                    <td>{one.taken_at.slice(0, 10)}</td>
                    <td>{one.author}</td>
                    <td className="text-ink2">{one.state}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </>
        )}
      </div>
      <aside aria-label={t("Taking it in")} className="min-h-0 overflow-auto border-l border-line bg-inset px-4 py-3">
        <h2 className="mb-2 text-[15px] font-semibold">{plan.parameters.length ? t("Fill it in") : t("Take it in")}</h2>
        {plan.parameters.map((one) => (
          <TextField
            key={one.name}
            label={one.name}
            hint={one.description}
            placeholder={one.sample}
            {...(one.kind === "call" ? { list: "package-offers" } : {})}
            value={values[one.name] ?? ""}
            onChange={(value) => setValues({ ...values, [one.name]: value })}
          />
        ))}
        <datalist id="package-offers">
          {(language.data?.offers ?? []).map((one) => (
            <option key={one.call} value={one.call} />
          ))}
        </datalist>
        {act.problems.length > 0 && (
          <div className="mb-2">
            <Problems problems={act.problems} />
          </div>
        )}
        {done && (
          <p className="mb-2 flex gap-2" role="status">
            <Mark name="draft" />
            {t("{0} drafts were made.", done.changes.filter((one) => one.action !== "unchanged").length)}
          </p>
        )}
        <button
          type="button"
          className="btn btn-main"
          aria-disabled={!may || act.busy || stops || look.problems.length > 0}
          title={may ? undefined : t("Taking in a package needs the role integrator.")}
          onClick={() => {
            if (may && !act.busy && !stops && !look.problems.length) void make();
          }}
        >
          {open.length ? t("Align all and make the drafts") : t("Make the drafts")}
        </button>
        <p className="mt-1.5 text-xs text-ink3">
          {open.length ? t("What nobody chose is done as it is proposed.") : t("Nothing goes live by this.")}
        </p>
      </aside>
    </section>
  );
}

function MismatchRow({ one, onChoose }: { one: PackageMismatch; onChoose: (choice: string) => void }) {
  return (
    <li className="grid grid-cols-[20px_minmax(0,1fr)_250px] gap-x-2 border-t border-line py-1.5 last:border-b">
      <Mark name={one.stops ? "fault" : one.options.length ? "risk" : "none"} className="mt-0.5" />
      <span className="min-w-0">
        <b className="font-semibold">{one.id}</b> {one.message}
        {(one.expected || one.found) && (
          <span className="block text-ink2">
            {one.expected && t("Expected {0}.", one.expected)} {one.found && t("Found {0}.", one.found)}
          </span>
        )}
      </span>
      {one.options.length > 0 && (
        <Select
          label={t("What is done about {0}", one.id)}
          value={one.chosen || one.proposal}
          onChange={onChoose}
          options={one.options.map((option) => ({
            value: option,
            word: option === one.proposal ? t("{0} (proposed)", option) : option,
          }))}
        />
      )}
    </li>
  );
}

function filledOnly(values: Texts): Texts {
  return Object.fromEntries(Object.entries(values).filter(([, value]) => value.trim()));
}

function age(days: number): string {
  return days <= 0 ? t("today") : t("{0} ago", plural(days, "day"));
}
