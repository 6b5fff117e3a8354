/** Contracts of others: those that were taken in, and taking in a further one. */
import { FileSignature, Plus } from "lucide-react";
import { useState } from "react";
import { Link } from "wouter";
import { useAddress } from "../../address";
import { ask, type ReadContract, type TakenInContract } from "../../api";
import { useAct } from "../../act";
import { DefinitionTabs } from "../../definitions/tabs";
import { useLens, within } from "../../lens";
import { useLoad } from "../../load";
import { Problems } from "../../parts/controls";
import { mayAtLeast, useSession } from "../../session";
import { plural } from "../../formats";
import { rich, t } from "../../text";
import { Drift } from "./drift";
import { Making } from "./making";
import { Offer } from "./offer";
import { SourceForm, type Source } from "./source";

export default function ContractsPage() {
  const may = mayAtLeast(useSession(), "integrator");
  const [view] = useLens();
  const [search, setSearch] = useAddress();
  const { data, error, reload } = useLoad<TakenInContract[]>("/contracts", 10);
  const name = search.get("contract") ?? "";
  const chosen = data?.find((one) => one.name === name);
  const known = useLoad<ReadContract>(name ? `/contracts/${encodeURIComponent(name)}` : null);
  const act = useAct();
  const [read, setRead] = useState<{ contract: ReadContract; source: Source; number: number }>();

  const readIt = (source: Source) =>
    void act.run(async () => {
      const contract = await ask<ReadContract>("POST", "/contracts/read", source);
      setRead((old) => ({ contract, source, number: (old?.number ?? 0) + 1 }));
    });

  return (
    <>
      <DefinitionTabs at="/definitions/contracts" />
      <div className="grid min-h-0 grow grid-cols-[232px_minmax(0,1fr)_300px]">
        <nav aria-label={t("Contracts")} className="min-h-0 overflow-auto border-r border-line bg-inset">
          <button
            type="button"
            aria-pressed={!name}
            onClick={() => setSearch({ contract: null, service: null })}
            className={`flex w-full items-center gap-2 border-b border-line px-4 py-2 text-left font-semibold ${name ? "" : "chosen"}`}
          >
            <Plus size={15} strokeWidth={1.75} className="text-ink3" />
            {t("Take in a contract")}
          </button>
          {data?.map((one) => (
            <button
              key={one.name}
              type="button"
              aria-pressed={one.name === name}
              onClick={() => setSearch({ contract: one.name, service: null })}
              className={`block w-full border-b border-line px-4 py-1.5 text-left ${one.name === name ? "chosen" : ""}`}
            >
              <span className="flex items-center gap-2">
                <FileSignature size={15} strokeWidth={1.75} className="text-ink3" />
                <b className="truncate font-semibold">{one.name}</b>
              </span>
              <span className="block truncate text-xs text-ink2">
                {one.services.length ? t("followed by {0}", one.services.join(", ")) : t("followed by no service")}
              </span>
            </button>
          ))}
          {data && !data.length && <p className="px-4 py-2 text-ink2">{t("None was taken in yet.")}</p>}
          {error && !data && (
            <div className="px-4 py-2">
              <Problems problems={error.problems} />
            </div>
          )}
        </nav>
        <section aria-label={t("The contract")} className="min-h-0 min-w-0 overflow-auto">
          {name ? (
            <>
              <div className="px-5 pt-3">
                <h1 className="text-[17px] font-semibold">{name}</h1>
                {chosen && (
                  <>
                    <p>{chosen.description}</p>
                    <p className="text-ink2">
                      {chosen.fetched
                        ? rich("Taken in from {0} on {1}", chosen.source || t("files"), chosen.fetched)
                        : rich("Taken in from {0}", chosen.source || t("files"))}
                    </p>
                  </>
                )}
              </div>
              {known.error && (
                <div className="px-5 py-3">
                  <Problems problems={known.error.problems} />
                </div>
              )}
              {known.data && <Offer contract={known.data} />}
            </>
          ) : may ? (
            <>
              <SourceForm busy={act.busy} onRead={readIt} />
              {act.problems.length > 0 && (
                <div className="px-5 py-3">
                  <Problems problems={act.problems} />
                </div>
              )}
              {read && <Offer contract={read.contract} />}
              {!read && !act.problems.length && (
                <p className="px-5 py-3 text-ink2">
                  {t(
                    "What it offers is shown here first, with everything that is wrong with it. Nothing is made before you say so.",
                  )}
                </p>
              )}
            </>
          ) : (
            <p className="px-5 py-4 text-ink2">{t("Taking in a contract needs the role integrator.")}</p>
          )}
        </section>
        <aside aria-label={t("What becomes of it")} className="min-h-0 overflow-auto border-l border-line bg-inset">
          {name && chosen && (
            <>
              <h2 className="px-4 pt-3 pb-1 text-[15px] font-semibold">{t("Followed by")}</h2>
              <p className="flex flex-col gap-0.5 px-4">
                {chosen.services.map((one) => (
                  <Link key={one} className="act" href={within(`/services/${one}`, view)}>
                    {one}
                  </Link>
                ))}
                {!chosen.services.length && <span className="text-ink2">{t("no service")}</span>}
              </p>
              {may && chosen.services[0] && (
                <p className="px-4 pt-1.5">
                  <button
                    type="button"
                    className="btn"
                    onClick={() => setSearch({ contract: null, service: chosen.services[0] ?? null })}
                  >
                    {t("Take in a newer version")}
                  </button>
                </p>
              )}
              <Drift contract={name} />
            </>
          )}
          {!name && read && may && (
            <Making
              key={read.number}
              contract={read.contract}
              source={read.source}
              wanted={search.get("service") ?? ""}
              onMade={reload}
            />
          )}
          {!name && !read && (
            <p className="px-4 py-3 text-ink2">
              {search.get("service")
                ? rich("The newer version is for {0}.", <b className="font-semibold">{search.get("service")}</b>)
                : rich("{0}", data ? plural(data.length, "contract of others", "contracts of others") : "")}
            </p>
          )}
        </aside>
      </div>
    </>
  );
}
