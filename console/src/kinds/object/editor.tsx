/** The object editor: fields with their rules, what is joined and what belongs to it, and which operations are published. */
import { Plus, Save, X } from "lucide-react";
import { useState } from "react";
import { Link } from "wouter";
import { useAddress } from "../../address";
import { ask, type ObjectDetail, type ObjectRow, type Plain } from "../../api";
import { useAct } from "../../act";
import { useSaveKey } from "../../definitions/save";
import { DefinitionTabs } from "../../definitions/tabs";
import { useLens, within } from "../../lens";
import { useLoad } from "../../load";
import { Problems, Select } from "../../parts/controls";
import { mayAtLeast, useSession } from "../../session";
import { plural } from "../../formats";
import { rich, t } from "../../text";

interface FieldText {
  type: string;
  column?: string;
  label?: string | Record<string, string>;
  description?: string;
  required?: boolean;
  read_only?: boolean;
  sensitive?: boolean;
  default?: string;
  parent?: string;
  refers_to?: string;
}
type Fields = Record<string, FieldText>;

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

function labelOf(label: FieldText["label"]): string {
  return typeof label === "string"
    ? label
    : label
      ? (label[navigator.language.slice(0, 2)] ?? Object.values(label)[0] ?? "")
      : "";
}

function Inspector({
  name,
  field,
  types,
  rule,
  may,
  onChange,
}: {
  name: string;
  field: FieldText;
  types: string[];
  rule: string;
  may: boolean;
  onChange: (part: Partial<FieldText>) => void;
}) {
  const labels = typeof field.label === "string" ? { "": field.label } : (field.label ?? { "": "" });
  const setLabel = (language: string, text: string) => {
    const next: Record<string, string> = { ...labels, [language]: text };
    const told = Object.entries(next).filter(([, words]) => words);
    onChange({
      label:
        told.length === 0
          ? ""
          : told.length === 1 && told[0]?.[0] === ""
            ? told[0][1]
            : Object.fromEntries(told.map(([key, words]) => [key || "en", words])),
    });
  };
  const [language, setLanguage] = useState("");
  return (
    <div className="border-t border-line2 bg-inset px-5 py-3">
      <h2 className="mb-1.5 flex items-baseline gap-3 font-mono text-[13px] font-semibold">
        {name}
        <span className="font-sans text-xs font-normal text-ink2">
          {rule}
          {field.refers_to && t("; the key of {0}", field.refers_to)}
          {field.parent && t("; joined from {0}", field.parent)}
        </span>
      </h2>
      <div className="grid grid-cols-[150px_140px_minmax(0,1fr)_minmax(0,1.4fr)] gap-3">
        <div>
          <span className="lbl">{t("Type")}</span>
          <Select
            label={t("Type")}
            value={field.type}
            onChange={(next) => {
              if (may) onChange({ type: next });
            }}
            options={types.map((one) => ({ value: one, word: one }))}
          />
        </div>
        <div>
          <label className="lbl" htmlFor="f-default">
            {t("Default")}
          </label>
          <input
            id="f-default"
            className="field"
            readOnly={!may}
            value={field.default ?? ""}
            onChange={(event) => onChange({ default: event.target.value })}
          />
        </div>
        <div>
          {Object.entries(labels).map(([key, words]) => (
            <div key={key} className="mb-1">
              <label className="lbl" htmlFor={`f-label-${key}`}>
                {rich("Label{0}", key && `, ${key}`)}
              </label>
              <span className="flex items-center">
                <input
                  id={`f-label-${key}`}
                  className="field"
                  readOnly={!may}
                  value={words}
                  onChange={(event) => setLabel(key, event.target.value)}
                />
                {key !== "" && Object.keys(labels).length > 1 && (
                  <button
                    type="button"
                    className="ibtn"
                    aria-label={t("Remove the label in {0}", key)}
                    title={t("Remove the label in {0}", key)}
                    onClick={() => setLabel(key, "")}
                  >
                    <X size={14} />
                  </button>
                )}
              </span>
            </div>
          ))}
          <span className="flex items-center gap-1">
            <input
              className="field w-16!"
              aria-label={t("Another language")}
              placeholder={t("de")}
              value={language}
              onChange={(event) => setLanguage(event.target.value)}
            />
            <button
              type="button"
              className="act inline-flex items-center gap-1 text-xs"
              aria-disabled={!may || !/^[a-z]{2,3}$/.test(language)}
              onClick={() => {
                if (may && /^[a-z]{2,3}$/.test(language)) {
                  setLabel(language, labels[language] ?? (labels[""] || name));
                  setLanguage("");
                }
              }}
            >
              {rich("{0}language", <Plus size={13} />)}
            </button>
          </span>
        </div>
        <div>
          <label className="lbl" htmlFor="f-description">
            {t("Description")}
          </label>
          <textarea
            id="f-description"
            className="field h-[58px]! py-1"
            readOnly={!may}
            value={field.description ?? ""}
            onChange={(event) => onChange({ description: event.target.value })}
          />
        </div>
      </div>
    </div>
  );
}

function Belongs({ definition }: { definition: Plain }) {
  const parents = Object.entries((definition.parents ?? {}) as Record<string, { table: string }>);
  const children = Object.entries(
    (definition.children ?? {}) as Record<string, { object: string; read_only?: boolean }>,
  );
  const finders = Object.entries(
    (definition.finders ?? {}) as Record<
      string,
      { filters?: Record<string, { field: string; compare?: string }>; order?: string | string[] }
    >,
  );
  const token = definition.change_token;
  return (
    <dl className="grid grid-cols-[132px_minmax(0,1fr)] gap-y-1 px-5 py-3">
      <dt className="text-ink2">{t("Key")}</dt>
      <dd className="font-mono text-[12.5px]">
        {([] as string[]).concat(definition.key as string | string[]).join(", ")}
      </dd>
      <dt className="text-ink2">{t("Change token")}</dt>
      <dd>
        {typeof token === "string" ? (
          <>{rich("the column {0}", <span className="font-mono text-[12.5px]">{token}</span>)}</>
        ) : token ? (
          t("worked out from the row and its children")
        ) : (
          t("none")
        )}
      </dd>
      {parents.map(([name, one]) => (
        <div key={name} className="contents">
          <dt className="text-ink2">{t("Joined")}</dt>
          <dd>{rich("{0}, table {1}", <span className="font-mono text-[12.5px]">{name}</span>, one.table)}</dd>
        </div>
      ))}
      {children.map(([name, one]) => (
        <div key={name} className="contents">
          <dt className="text-ink2">{t("Belongs to it")}</dt>
          <dd>
            {rich(
              "{0}, rows of {1}{2}",
              <span className="font-mono text-[12.5px]">{name}</span>,
              one.object,
              one.read_only && t(", read only"),
            )}
          </dd>
        </div>
      ))}
      {finders.map(([name, one]) => (
        <div key={name} className="contents">
          <dt className="text-ink2">{t("Finder")}</dt>
          <dd>
            {rich(
              "{0} by {1}",
              <span className="font-mono text-[12.5px]">{name}</span>,
              Object.entries(one.filters ?? {})
                .map(([filter, what]) => `${filter}${what.compare ? ` (${what.compare})` : ""}`)
                .join(", ") || t("nothing"),
            )}
          </dd>
        </div>
      ))}
    </dl>
  );
}

function Published({ detail, may, onChanged }: { detail: ObjectDetail; may: boolean; onChanged: () => void }) {
  const [view] = useLens();
  const act = useAct();
  const users = detail.services.map((one) => one.service);
  const [other, setOther] = useState("");
  const shown = [...users, ...(other && !users.includes(other) ? [other] : [])];
  const tick = (service: string, verb: string, on: boolean) =>
    act.run(async () => {
      await ask("PUT", `/services/${encodeURIComponent(service)}/operations`, { object: detail.name, verb, on });
      onChanged();
    });
  return (
    <div className="px-4 pt-3 pb-4">
      <h2 className="text-[15px] font-semibold">{t("Published operations")}</h2>
      <p className="mb-2 text-xs text-ink2">{t("Only what is ticked is in a contract, after the next release.")}</p>
      {act.problems.length > 0 && (
        <div className="mb-2">
          <Problems problems={act.problems} />
        </div>
      )}
      {shown.map((service) => {
        const named = detail.services.find((one) => one.service === service)?.operations ?? [];
        return (
          <fieldset key={service} className="mb-3 border-t border-line pt-1.5">
            <legend className="sr-only">{service}</legend>
            <p className="flex">
              <Link className="act" href={within(`/services/${service}`, view)}>
                {service}
              </Link>
              <span className="ml-auto text-xs text-ink2">{plural(named.length, "operation")}</span>
            </p>
            {detail.verbs.map((verb) => {
              const made = named.filter((one) => one.verb === verb);
              return (
                <label key={verb} className="flex items-center gap-2">
                  <input
                    type="checkbox"
                    disabled={!may || act.busy}
                    checked={made.length > 0}
                    onChange={(event) => void tick(service, verb, event.target.checked)}
                  />
                  <span className="font-mono text-[12.5px]">{verb}</span>
                  <span className="ml-auto truncate text-xs text-ink2">{made.map((one) => one.name).join(", ")}</span>
                </label>
              );
            })}
          </fieldset>
        );
      })}
      <Select
        label={t("Publish in another service")}
        value={other}
        onChange={setOther}
        placeholder={t("Publish in another service")}
        options={[
          { value: "", word: t("Publish in another service") },
          ...detail.all_services.filter((one) => !users.includes(one)).map((one) => ({ value: one, word: one })),
        ]}
      />
      <p className="mt-3 text-xs text-ink2">
        {rich(
          "Finders, parents and children are edited {0}.",
          <Link className="act" href={within(`/definitions?file=${encodeURIComponent(detail.path)}`, view)}>
            {t("as text")}
          </Link>,
        )}
      </p>
    </div>
  );
}
