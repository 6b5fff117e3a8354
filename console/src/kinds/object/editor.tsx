/** The object editor: fields with their rules, what is joined and what belongs to it, and which operations are published. */
import { Save } from "lucide-react";
import { useState } from "react";
import { useAddress } from "../../address";
import { ask, type ObjectDetail, type ObjectRow, type Plain } from "../../api";
import { useAct } from "../../act";
import { useSaveKey } from "../../definitions/save";
import { DefinitionTabs } from "../../definitions/tabs";
import { useLoad } from "../../load";
import { Problems } from "../../parts/controls";
import { mayAtLeast, useSession } from "../../session";
import { rich, t } from "../../text";
import { Belongs } from "./belongs";
import { labelOf, type FieldText, type Fields } from "./fields";
import { Inspector } from "./inspector";
import { Published } from "./published";

export default function ObjectsPage() {
  const may = mayAtLeast(useSession(), "integrator");
  const [search, setSearch] = useAddress();
  const list = useLoad<ObjectRow[]>("/objects", 15);
  const name = search.get("object") ?? list.data?.[0]?.name ?? "";
  const { data, error, reload } = useLoad<ObjectDetail>(name ? `/objects/${encodeURIComponent(name)}` : null);
  const [pen, setPen] = useState<{ of: string; revision: number; definition: Plain } | null>(null);
  const [chosen, setChosen] = useState("");
  const [said, setSaid] = useState("");
  const act = useAct();
  const mine = pen?.of === name ? pen : null;
  const definition = mine?.definition ?? data?.definition ?? {};
  const fields = (definition.fields ?? {}) as Fields;
  const dirty = mine !== null;
  const change = (part: Plain) => {
    setSaid("");
    setPen({ of: name, revision: mine?.revision ?? data?.revision ?? 0, definition: { ...definition, ...part } });
  };
  const setField = (field: string, part: Partial<FieldText>) => {
    const next = { ...fields[field], ...part } as Plain;
    for (const [key, value] of Object.entries(next))
      if (value === "" || value === undefined || (key === "required" ? value === true : value === false))
        delete next[key];
    change({ fields: { ...fields, [field]: next } });
  };
  const save = () =>
    act.run(async () => {
      await ask("PUT", `/objects/${encodeURIComponent(name)}`, { definition, revision: mine?.revision ?? 0 });
      setPen(null);
      setSaid(t("Saved as a draft. What is live has not changed."));
      reload();
      list.reload();
    });
  const choose = (next: string) => {
    if (dirty && !window.confirm(t("Leave without saving the changes?"))) return;
    setPen(null);
    setSaid("");
    setChosen("");
    act.clear();
    setSearch({ object: next });
  };
  useSaveKey(dirty && may && !act.busy, save);

  return (
    <>
      <DefinitionTabs at="/definitions/objects" />
      <div className="grid min-h-0 grow grid-cols-[188px_minmax(0,1fr)_272px]">
        <nav aria-label={t("Objects")} className="min-h-0 overflow-auto border-r border-line bg-inset pt-2">
          {list.data?.map((one) => (
            <button
              key={one.name}
              type="button"
              aria-pressed={one.name === name}
              onClick={() => choose(one.name)}
              className={`block w-full border-t border-line px-4 py-1.5 text-left last:border-b ${one.name === name ? "chosen" : ""}`}
            >
              <b className="block truncate font-semibold">{one.name}</b>
              <span className="block truncate text-xs text-ink2">
                {one.services.length
                  ? t("in {0}", one.services.map((two) => two.service).join(", "))
                  : t("not published")}
              </span>
            </button>
          ))}
          {list.data && !list.data.length && <p className="px-4 text-ink2">{t("No object yet.")}</p>}
        </nav>
        <section aria-label={t("Fields")} className="flex min-h-0 min-w-0 flex-col">
          {error && (
            <div className="p-5">
              <Problems problems={error.problems} />
            </div>
          )}
          {data && (
            <>
              <div className="flex items-start gap-3 border-b border-line px-5 pt-3 pb-2.5">
                <div className="min-w-0">
                  <h1 className="text-[20px] leading-6 font-semibold">{name}</h1>
                  <p className="truncate text-ink2">
                    {rich(
                      "Table {0} of {1}{2}",
                      <span className="font-mono text-[12.5px]">{String(definition.table)}</span>,
                      String(definition.backend),
                      typeof definition.description === "string" && `. ${definition.description}`,
                    )}
                  </p>
                </div>
                <span className="mt-1.5 ml-auto text-xs text-ink2 whitespace-nowrap" role="status">
                  {dirty ? t("changed, not saved") : said}
                </span>
                <button
                  type="button"
                  className="btn btn-main"
                  aria-disabled={!dirty || !may || act.busy}
                  title={may ? undefined : t("Editing needs the role integrator")}
                  onClick={() => {
                    if (dirty && may && !act.busy) void save();
                  }}
                >
                  {rich("{0}Save{1}", <Save size={15} strokeWidth={1.75} />, <kbd className="kbd-in">Ctrl S</kbd>)}
                </button>
              </div>
              {act.problems.length > 0 && (
                <div className="max-h-48 overflow-auto border-b border-line px-5 py-2">
                  <Problems problems={act.problems} />
                </div>
              )}
              {data.problems.length > 0 && (
                <div className="border-b border-line px-5 py-2">
                  <Problems problems={data.problems} />
                </div>
              )}
              <div className="min-h-0 grow overflow-auto">
                <table className="tbl">
                  <thead>
                    <tr>
                      <th scope="col">{t("Field")}</th>
                      <th scope="col">{t("Column")}</th>
                      <th scope="col">{t("Type")}</th>
                      <th scope="col" className="text-center">
                        {t("Required")}
                      </th>
                      <th scope="col" className="text-center">
                        {t("Read only")}
                      </th>
                      <th scope="col" className="text-center">
                        {t("Sensitive")}
                      </th>
                      <th scope="col">{t("Default")}</th>
                      <th scope="col">{t("Label")}</th>
                    </tr>
                  </thead>
                  <tbody>
                    {Object.entries(fields).map(([field, one]) => (
                      <tr
                        key={field}
                        aria-selected={field === chosen}
                        onClick={() => setChosen(field)}
                        className="cursor-pointer"
                      >
                        <th scope="row" className="font-mono text-[12.5px] whitespace-nowrap">
                          <button type="button" className="text-left" onClick={() => setChosen(field)}>
                            {field}
                          </button>
                        </th>
                        <td className="font-mono text-[12px] text-ink2 whitespace-nowrap">
                          {one.parent ? `${one.parent}.` : ""}
                          {one.column ?? data.columns[field]}
                        </td>
                        <td className="whitespace-nowrap" title={data.rules[field]}>
                          {one.type}
                        </td>
                        {(["required", "read_only", "sensitive"] as const).map((flag) => (
                          <td key={flag} className="text-center">
                            <input
                              type="checkbox"
                              aria-label={`${field} ${flag.replace("_", " ")}`}
                              disabled={!may || Boolean(one.parent && flag !== "sensitive")}
                              checked={
                                flag === "required"
                                  ? one.required !== false
                                  : flag === "read_only"
                                    ? Boolean(one.read_only ?? one.parent)
                                    : Boolean(one.sensitive)
                              }
                              onChange={(event) => setField(field, { [flag]: event.target.checked })}
                            />
                          </td>
                        ))}
                        <td className="font-mono text-[12px]">{one.default ?? ""}</td>
                        <td className="truncate text-ink2">{labelOf(one.label)}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
                <Belongs definition={definition} />
              </div>
              {chosen && fields[chosen] && (
                <Inspector
                  key={chosen}
                  name={chosen}
                  field={fields[chosen]}
                  types={data.types}
                  rule={data.rules[chosen] ?? ""}
                  may={may}
                  onChange={(part) => setField(chosen, part)}
                />
              )}
            </>
          )}
        </section>
        <aside aria-label={t("Published operations")} className="min-h-0 overflow-auto border-l border-line">
          {data && (
            <Published
              detail={data}
              may={may}
              onChanged={() => {
                reload();
                list.reload();
              }}
            />
          )}
        </aside>
      </div>
    </>
  );
}
