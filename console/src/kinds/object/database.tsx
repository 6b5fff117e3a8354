/** Looking around in a database, and making objects and services of its tables. */
import { useState } from "react";
import { useAddress } from "../../address";
import { type BackendEnd, type TableDetail, type TableRow } from "../../api";
import { DefinitionTabs } from "../../definitions/tabs";
import { useLens } from "../../lens";
import { useLoad } from "../../load";
import { Problems, Select } from "../../parts/controls";
import { Mark } from "../../parts/marks";
import { mayAtLeast, useSession } from "../../session";
import { plural } from "../../formats";
import { rich, t } from "../../text";
import { ManyTables } from "./many";
import { IN_DATABASES } from "..";
import { Wish } from "./wish";

export default function DatabasePage() {
  const may = mayAtLeast(useSession(), "integrator");
  const [view] = useLens();
  const [search, setSearch] = useAddress();
  const ends = useLoad<BackendEnd[]>("/backends");
  const bound = (ends.data ?? []).filter((one) => one.bound && one.family === "database");
  const place =
    bound.find((one) => `${one.environment} ${one.backend}` === search.get("place")) ??
    bound.find((one) => one.environment === view) ??
    bound[0];
  const [narrow, setNarrow] = useState("");
  const [made, setMade] = useState(0);
  const base = place
    ? `/discovery/${encodeURIComponent(place.environment)}/${encodeURIComponent(place.backend)}`
    : null;
  const tables = useLoad<TableRow[]>(may && base ? `${base}?search=${encodeURIComponent(narrow)}` : null);
  const name = search.get("table") ?? tables.data?.[0]?.name ?? "";
  const several = search.get("several") === "yes";
  const beside = IN_DATABASES.find((one) => search.get(one.name));
  const table = useLoad<TableDetail>(
    may && base && name && !beside ? `${base}/table?name=${encodeURIComponent(name)}` : null,
  );
  const none = Object.fromEntries(["table", ...IN_DATABASES.map((one) => one.name)].map((one) => [one, null]));
  const set = (key: string, value: string) =>
    setSearch(key === "several" ? { several: value } : { ...none, [key]: value });

  if (!may)
    return (
      <>
        <DefinitionTabs at="/definitions/database" />
        <p className="px-5 py-4 text-ink2">{t("Looking around in databases needs the role integrator.")}</p>
      </>
    );
  return (
    <>
      <DefinitionTabs at="/definitions/database" />
      <div className="grid min-h-0 grow grid-cols-[280px_minmax(0,1fr)_308px]">
        <nav aria-label={t("Tables")} className="min-h-0 overflow-auto border-r border-line bg-inset">
          <div className="flex flex-col gap-2 px-4 pt-3 pb-2">
            <Select
              label={t("Database")}
              value={place ? `${place.environment} ${place.backend}` : ""}
              onChange={(next) => set("place", next)}
              placeholder={t("no backend is bound")}
              options={bound.map((one) => ({
                value: `${one.environment} ${one.backend}`,
                word: t("{0} in {1}, {2}", one.backend, one.environment, one.engine),
              }))}
            />
            <input
              data-narrow
              className="field"
              placeholder={t("Part of a name or comment")}
              aria-label={t("Part of a name or comment")}
              value={narrow}
              onChange={(event) => setNarrow(event.target.value)}
            />
            <button
              type="button"
              className="btn self-start"
              aria-pressed={several}
              onClick={() => set("several", several ? "" : "yes")}
            >
              {several ? t("One table") : t("Several tables at once")}
            </button>
          </div>
          {tables.error && (
            <div className="px-4">
              <Problems problems={tables.error.problems} />
            </div>
          )}
          {tables.data?.map((one) => (
            <button
              key={one.name}
              type="button"
              aria-pressed={one.name === name && !beside}
              onClick={() => set("table", one.name)}
              className={`block w-full border-t border-line px-4 py-1 text-left last:border-b ${one.name === name && !beside ? "chosen" : ""}`}
            >
              <span className="flex items-center gap-1.5">
                <Mark name={markOf(one)} />
                <b className="truncate font-mono text-[12.5px] font-semibold">{one.name}</b>
                <span className="ml-auto text-xs text-ink2">
                  {one.rows === null ? one.kind : `${one.exact ? "" : "about "}${one.rows.toLocaleString("en")}`}
                </span>
              </span>
              <span className="block truncate text-xs text-ink2">
                {one.used[0] ??
                  one.reasons[0] ??
                  (one.comment || t("{0}, not published", plural(one.columns.length, "column")))}
              </span>
            </button>
          ))}
          {tables.data && !tables.data.length && <p className="px-4 py-2 text-ink2">{t("No table mentions that.")}</p>}
          {base &&
            IN_DATABASES.map((one) => (
              <one.List
                key={`${one.name} ${made}`}
                base={base}
                narrow={narrow}
                chosen={search.get(one.name) ?? ""}
                onChoose={(chosen) => set(one.name, chosen)}
              />
            ))}
        </nav>
        {several && tables.data && base ? (
          <ManyTables key={`${base} ${narrow}`} tables={tables.data} base={base} onMade={tables.reload} />
        ) : beside && base && place ? (
          <beside.View
            base={base}
            chosen={search.get(beside.name) ?? ""}
            environment={place.environment}
            onMade={() => setMade(made + 1)}
          />
        ) : (
          <>
            <section aria-label={t("Table")} className="min-h-0 min-w-0 overflow-auto">
              {table.error && (
                <div className="p-5">
                  <Problems problems={table.error.problems} />
                </div>
              )}
              {table.data && <Columns table={table.data} />}
            </section>
            <aside aria-label={t("Make an object")} className="min-h-0 overflow-auto border-l border-line bg-inset">
              {table.data && base && place && (
                <Wish
                  key={`${base} ${name}`}
                  table={table.data}
                  base={base}
                  environment={place.environment}
                  onMade={() => {
                    tables.reload();
                    table.reload();
                  }}
                />
              )}
            </aside>
          </>
        )}
      </div>
    </>
  );
}

/** Green only where an operation is live; a draft is none. */
function markOf(table: TableRow) {
  if (table.serving) return "serving";
  return table.used.length ? "draft" : table.reasons.length ? "risk" : "none";
}

function Columns({ table }: { table: TableDetail }) {
  return (
    <>
      <div className="px-5 pt-3 pb-2">
        <h1 className="font-mono text-[17px] font-semibold">{table.name}</h1>
        <p className="text-ink2">
          {table.kind === "view" ? t("View") : t("Table")}
          {table.rows !== null && `, ${plural(table.rows, "row")}`}
          {table.key.length > 0 && (
            <>
              {rich(
                ", key {0} ({1})",
                <span className="font-mono text-[12.5px]">{table.key.join(", ")}</span>,
                table.key_from,
              )}
            </>
          )}
          {table.comment && `. ${table.comment}`}
        </p>
        {table.reasons.map((one) => (
          <p key={one} className="strip mt-2">
            {rich("No object can be made of it: {0}.", one)}
          </p>
        ))}
      </div>
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col">{t("Column")}</th>
            <th scope="col">{t("Type there")}</th>
            <th scope="col">{t("Type here")}</th>
            <th scope="col">{t("Required")}</th>
            <th scope="col">{t("Filled by")}</th>
            <th scope="col">{t("Codes and words")}</th>
          </tr>
        </thead>
        <tbody>
          {table.columns.map((one) => (
            <tr key={one.name}>
              <th scope="row" className="font-mono text-[12.5px] whitespace-nowrap">
                {one.name}
              </th>
              <td className="font-mono text-[12px] text-ink2">{one.declared}</td>
              <td>
                {one.type || (
                  <span className="flex items-center gap-1.5 text-warn">
                    {rich("{0}none, left out", <Mark name="risk" />)}
                  </span>
                )}
              </td>
              <td>{one.required ? t("yes") : <span className="text-ink3">{t("no")}</span>}</td>
              <td className="text-ink2 whitespace-nowrap">
                {one.made ? (
                  t("the database alone")
                ) : one.filled ? (
                  t("the database, if nothing is given")
                ) : one.default ? (
                  <>{rich("default {0}", <span className="font-mono text-[12px]">{one.default}</span>)}</>
                ) : (
                  ""
                )}
              </td>
              <td className="py-1! text-ink2">
                {one.codes.length > 0 && (
                  <span title={one.codes_from}>
                    {one.codes.slice(0, 8).join(", ")}
                    {one.codes.length > 8 && ", …"} <span className="text-ink3">({one.codes_from})</span>
                  </span>
                )}
                {one.comment}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {(table.foreign_keys.length > 0 || table.children.length > 0) && (
        <ul className="px-5 py-2 text-ink2">
          {table.foreign_keys.map((one) => (
            <li key={one.columns.join()}>
              {rich(
                "{0} refers to {1}",
                <span className="font-mono text-[12.5px]">{one.columns.join(", ")}</span>,
                <b className="font-mono text-[12.5px] font-semibold text-ink">{one.table}</b>,
              )}
            </li>
          ))}
          {table.children.map((one) => (
            <li key={one.table + one.columns.join()}>
              {rich(
                "{0} refers to it by {1}",
                <b className="font-mono text-[12.5px] font-semibold text-ink">{one.table}</b>,
                <span className="font-mono text-[12.5px]">{one.columns.join(", ")}</span>,
              )}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
