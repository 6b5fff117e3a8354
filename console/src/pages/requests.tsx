/** Integration requests: those that were taken in, with what they lock and lack, and taking in a further one. */
import { FileQuestion, Plus } from "lucide-react";
import { useState } from "react";
import { Link } from "wouter";
import { useAddress } from "../address";
import { ask, type RequestDetail, type RequestRow, type TakenRequest } from "../api";
import { useAct } from "../act";
import { DefinitionTabs } from "../definitions/tabs";
import { fromBase64, type Files } from "../files";
import { useLens, within } from "../lens";
import { useLoad } from "../load";
import { NotLoaded, Problems } from "../parts/controls";
import { DropFiles } from "../parts/drop";
import { Mark } from "../parts/marks";
import { mayAtLeast, useSession } from "../session";
import { rich, t } from "../text";

export default function RequestsPage() {
  const may = mayAtLeast(useSession(), "integrator");
  const [view] = useLens();
  const [search, setSearch] = useAddress();
  const list = useLoad<RequestRow[]>("/requests", 20);
  const name = search.get("request") ?? list.data?.[0]?.name ?? "";
  const known = useLoad<RequestDetail>(name ? `/requests/${encodeURIComponent(name)}` : null);
  if (list.error && !list.data) return <NotLoaded error={list.error} />;
  if (!list.data) return null;
  return (
    <>
      <DefinitionTabs at="/definitions/requests" />
      <div className="grid min-h-0 grow grid-cols-[232px_minmax(0,1fr)]">
        <nav aria-label={t("Integration requests")} className="min-h-0 overflow-auto border-r border-line bg-inset">
          {may && (
            <button
              type="button"
              aria-pressed={!name}
              onClick={() => setSearch({ request: "" })}
              className={`flex w-full items-center gap-2 border-b border-line px-4 py-2 text-left font-semibold ${name ? "" : "chosen"}`}
            >
              <Plus size={15} strokeWidth={1.75} className="text-ink3" />
              {t("Take in a request")}
            </button>
          )}
          {list.data.map((one) => (
            <button
              key={one.name}
              type="button"
              aria-pressed={one.name === name}
              onClick={() => setSearch({ request: one.name })}
              className={`block w-full border-b border-line px-4 py-1.5 text-left ${one.name === name ? "chosen" : ""}`}
            >
              <span className="flex items-center gap-2">
                <FileQuestion size={15} strokeWidth={1.75} className="shrink-0 text-ink3" />
                <b className="truncate font-semibold">{one.name}</b>
              </span>
              <span className="block truncate text-xs text-ink2">{one.title}</span>
            </button>
          ))}
          {!list.data.length && <p className="px-4 py-2 text-ink2">{t("None was taken in yet.")}</p>}
        </nav>
        <section aria-label={t("The request")} className="min-h-0 min-w-0 overflow-auto px-5 py-3">
          {!name ? (
            <Taking
              may={may}
              onTaken={(request) => {
                list.reload();
                setSearch({ request });
              }}
            />
          ) : (
            known.data && (
              <>
                <h1 className="text-[17px] font-semibold">{known.data.title || known.data.name}</h1>
                <p>{known.data.purpose}</p>
                <p className="text-ink2">
                  {known.data.asked_by && <>{t("Asked for by {0}.", known.data.asked_by)} </>}
                  {known.data.service && (
                    <>
                      {rich(
                        "It became {0}.",
                        <Link className="act" href={within(`/services/${known.data.service}`, view)}>
                          {known.data.service}
                        </Link>,
                      )}{" "}
                    </>
                  )}
                  {known.data.link && (
                    <>
                      {rich(
                        "It stands at {0}.",
                        <span className="font-mono text-[12.5px] break-all">{known.data.link}</span>,
                      )}
                    </>
                  )}
                </p>
                {known.data.problems.length > 0 && (
                  <div className="mt-2">
                    <Problems problems={known.data.problems} />
                  </div>
                )}
                <TakenOver rows={known.data.taken} />
                <Lacks rows={known.data.lacks} />
              </>
            )
          )}
        </section>
      </div>
    </>
  );
}

function TakenOver({ rows }: { rows: RequestDetail["taken"] }) {
  if (!rows.length) return null;
  return (
    <>
      <h2 className="mt-3 mb-1 text-[15px] font-semibold">{t("Taken over")}</h2>
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col">{t("Setting")}</th>
            <th scope="col">{t("In the request")}</th>
            <th scope="col">{t("Here")}</th>
            <th scope="col">{t("Changed")}</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((one) => (
            <tr key={one.setting}>
              <th scope="row">{one.setting}</th>
              <td>{one.value}</td>
              <td>{one.here}</td>
              <td className="whitespace-nowrap text-ink2">
                {one.locked ? t("in the request, locked here") : t("here")}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function Lacks({ rows }: { rows: RequestDetail["lacks"] }) {
  if (!rows.length) return null;
  return (
    <>
      <h2 className="mt-4 mb-1 text-[15px] font-semibold">{t("What it leaves open")}</h2>
      <ul className="flex flex-col">
        {rows.map((one, index) => (
          <li key={index} className="flex gap-2 border-t border-line py-1 last:border-b">
            <Mark name="risk" className="mt-0.5" />
            <span className="min-w-0">
              <b className="font-semibold">{one.what}</b> {one.why}
            </span>
          </li>
        ))}
      </ul>
    </>
  );
}

function Taking({ may, onTaken }: { may: boolean; onTaken: (request: string) => void }) {
  const [files, setFiles] = useState<Files>({});
  const [plan, setPlan] = useState<TakenRequest>();
  const act = useAct();
  const request = Object.keys(files).find((one) => /\.(ya?ml|json)$/i.test(one));
  const body = (found: Files, path: string, planOnly: boolean) => ({
    text: fromBase64(found[path] ?? ""),
    files: Object.fromEntries(Object.entries(found).filter(([one]) => one !== path)),
    plan_only: planOnly,
  });
  const look = (found: Files) => {
    setFiles(found);
    setPlan(undefined);
    const path = Object.keys(found).find((one) => /\.(ya?ml|json)$/i.test(one));
    if (path) void act.run(async () => setPlan(await ask<TakenRequest>("POST", "/requests", body(found, path, true))));
  };
  if (!may) return <p className="text-ink2">{t("Taking in a request needs the role integrator.")}</p>;
  return (
    <>
      <h1 className="mb-2.5 text-[17px] font-semibold">{t("Take in a request")}</h1>
      <DropFiles
        label={t("Files of the request")}
        hint={t("or drop a request here, in YAML or JSON, with the contracts that it names.")}
        names={Object.keys(files)}
        onTake={look}
      />
      {Object.keys(files).length > 0 && !request && (
        <p className="mt-2 text-ink2">{t("None of the files is a request in YAML or JSON.")}</p>
      )}
      {act.problems.length > 0 && (
        <div className="mt-2">
          <Problems problems={act.problems} />
        </div>
      )}
      {plan && request && (
        <>
          <p className="mt-3">
            {rich(
              "{0} becomes the service {1}.",
              <b className="font-semibold">{plan.title || plan.request}</b>,
              <b className="font-semibold">{plan.service || t("none yet")}</b>,
            )}
          </p>
          <TakenOver rows={plan.taken} />
          {plan.proposed.length > 0 && (
            <>
              <h2 className="mt-4 mb-1 text-[15px] font-semibold">{t("Lines of maps that are proposed")}</h2>
              <table className="tbl">
                <tbody>
                  {plan.proposed.map((one) => (
                    <tr key={`${one.map} ${one.part}`}>
                      <td className="text-ink2">{one.map}</td>
                      <th scope="row">{one.part}</th>
                      <td>{one.from}</td>
                      <td className="text-ink2">{one.or && t("or {0}", one.or)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </>
          )}
          <Lacks rows={plan.lacks} />
          <p className="mt-3">
            <button
              type="button"
              className="btn btn-main"
              aria-disabled={act.busy}
              onClick={() => {
                if (!act.busy)
                  void act.run(async () => {
                    const taken = await ask<TakenRequest>("POST", "/requests", body(files, request, false));
                    onTaken(taken.request);
                  });
              }}
            >
              {t("Make the drafts")}
            </button>
          </p>
        </>
      )}
    </>
  );
}
