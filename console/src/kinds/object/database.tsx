/** Looking around in a database, and making objects and services of its tables. */
import { Plus } from "lucide-react";
import { useState } from "react";
import { Link } from "wouter";
import { useAddress } from "../../address";
import { ask, type BackendEnd, type TableDetail, type TableRow } from "../../api";
import { useAct } from "../../act";
import { DefinitionTabs } from "../../definitions/tabs";
import { useLens, within } from "../../lens";
import { useLoad } from "../../load";
import { CopyButton, Problems, Select } from "../../parts/controls";
import { TextField } from "../../parts/dialog";
import { Mark } from "../../parts/marks";
import { mayAtLeast, useSession } from "../../session";
import { plural } from "../../formats";
import { rich, t } from "../../text";

const OPERATIONS = [
  { name: "get", words: t("Read one by its key") },
  { name: "check", words: t("Tell whether it exists and has changed") },
  { name: "find", words: t("Find and page") },
  { name: "create", words: t("Create") },
  { name: "update", words: t("Change given fields") },
  { name: "save", words: t("Create or make equal") },
  { name: "delete", words: t("Delete") },
];

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
  const base = place
    ? `/discovery/${encodeURIComponent(place.environment)}/${encodeURIComponent(place.backend)}`
    : null;
  const tables = useLoad<TableRow[]>(may && base ? `${base}?search=${encodeURIComponent(narrow)}` : null);
  const name = search.get("table") ?? tables.data?.[0]?.name ?? "";
  const table = useLoad<TableDetail>(may && base && name ? `${base}/table?name=${encodeURIComponent(name)}` : null);
  const set = (key: string, value: string) =>
    setSearch(key === "place" ? { place: value, table: null } : { [key]: value });

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
              aria-pressed={one.name === name}
              onClick={() => set("table", one.name)}
              className={`block w-full border-t border-line px-4 py-1 text-left last:border-b ${one.name === name ? "chosen" : ""}`}
            >
              <span className="flex items-center gap-1.5">
                <Mark name={one.used.length ? "serving" : one.reasons.length ? "risk" : "none"} />
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
          {tables.data && !tables.data.length && <p className="px-4 py-2 text-ink2">{t("Nothing mentions that.")}</p>}
        </nav>
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
      </div>
    </>
  );
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
                {one.filled ? (
                  t("the database")
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

function Wish({
  table,
  base,
  environment,
  onMade,
}: {
  table: TableDetail;
  base: string;
  environment: string;
  onMade: () => void;
}) {
  const [view] = useLens();
  const [ticked, setTicked] = useState<string[]>(["get", "find"]);
  const [children, setChildren] = useState<string[]>([]);
  const [object, setObject] = useState("");
  const [service, setService] = useState("");
  const [role, setRole] = useState("");
  const [key, setKey] = useState("");
  const [shown, setShown] = useState<Record<string, string> | null>(null);
  const [made, setMade] = useState<string[] | null>(null);
  const act = useAct();
  const toggle = (list: string[], one: string) =>
    list.includes(one) ? list.filter((two) => two !== one) : [...list, one];
  const words = (text: string) =>
    text
      .split(",")
      .map((one) => one.trim())
      .filter(Boolean);
  const run = (save: boolean) =>
    act.run(async () => {
      const found = await ask<{ files: Record<string, string> }>("POST", base, {
        table: table.name,
        name: object,
        service,
        operations: ticked,
        roles: words(role),
        children,
        key: words(key),
        save,
      });
      if (save) {
        setMade(Object.keys(found.files));
        onMade();
      } else setShown(found.files);
    });
  const ready = !act.busy && (table.reasons.length === 0 || key !== "");
  return (
    <form
      className="px-4 pt-3 pb-4"
      onSubmit={(event) => {
        event.preventDefault();
        if (ready) void run(true);
      }}
    >
      <h2 className="mb-2 text-[15px] font-semibold">{t("Make an object")}</h2>
      <TextField label={t("Object")} hint={t("The table's name when left empty")} value={object} onChange={setObject} />
      {table.kind === "view" || !table.key.length ? (
        <TextField
          label={t("Key")}
          hint={t("Columns that tell the rows apart, with commas")}
          value={key}
          onChange={setKey}
        />
      ) : null}
      <TextField
        label={t("Service")}
        hint={t("A new one that publishes it; none when left empty")}
        value={service}
        onChange={setService}
        placeholder={t("PermitBook")}
      />
      <TextField
        label={t("Roles")}
        hint={t("Who may call it; nobody when left empty")}
        value={role}
        onChange={setRole}
        placeholder={t("auditor")}
      />
      <fieldset className="mb-2.5">
        <legend className="lbl">{t("Operations")}</legend>
        {OPERATIONS.filter((one) => table.kind === "table" || OPERATIONS.indexOf(one) < 3).map((one) => (
          <label key={one.name} className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={ticked.includes(one.name)}
              onChange={() => setTicked(toggle(ticked, one.name))}
            />
            {one.words}
          </label>
        ))}
      </fieldset>
      {table.children.length > 0 && (
        <fieldset className="mb-2.5">
          <legend className="lbl">{t("Rows that belong to it")}</legend>
          {table.children.map((one) => (
            <label key={one.table} className="flex items-center gap-2">
              <input
                type="checkbox"
                disabled={one.reasons.length > 0}
                checked={children.includes(one.table)}
                onChange={() => setChildren(toggle(children, one.table))}
              />
              <span className="font-mono text-[12.5px]">{one.table}</span>
            </label>
          ))}
        </fieldset>
      )}
      <div className="flex gap-2">
        <button type="submit" className="btn btn-main" aria-disabled={!ready}>
          {rich("{0}Make it", <Plus size={15} strokeWidth={1.75} />)}
        </button>
        <button
          type="button"
          className="btn"
          aria-disabled={!ready}
          onClick={() => {
            if (ready) void run(false);
          }}
        >
          {t("Show the text")}
        </button>
      </div>
      {act.problems.length > 0 && (
        <div className="mt-3">
          <Problems problems={act.problems} />
        </div>
      )}
      {made && (
        <p role="status" className="mt-3">
          {rich(
            "{0} Saved as {1}: {2}. {3} It is reachable in {4} after a release and a deployment.",
            <Mark name="draft" />,
            plural(made.length, "draft"),
            made.join(", "),
            service ? (
              <Link className="act" href={within(`/services/${service}`, view)}>
                {rich("Look at {0} →", service)}
              </Link>
            ) : (
              <Link className="act" href={within("/definitions/objects", view)}>
                {t("Look at the object →")}
              </Link>
            ),
            environment,
          )}
        </p>
      )}
      {shown &&
        Object.entries(shown).map(([path, text]) => (
          <div key={path} className="mt-3">
            <p className="flex items-center font-mono text-[12px] text-ink2">
              {path}
              <span className="ml-auto">
                <CopyButton text={text} what={path} />
              </span>
            </p>
            <pre className="overflow-auto border border-line bg-sheet p-2 font-mono text-[11.5px] leading-[16px]">
              {text}
            </pre>
          </div>
        ))}
    </form>
  );
}
