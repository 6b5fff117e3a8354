/** What is wanted of a table: names, operations, who may call, what belongs to it; and the definitions made of that. */
import { useState } from "react";
import { ask, type Drafted, type TableDetail } from "../../api";
import { useAct } from "../../act";
import { Problems, Select } from "../../parts/controls";
import { TextField } from "../../parts/dialog";
import { MadeDrafts, MakeActs } from "../../parts/made-drafts";
import { Mark } from "../../parts/marks";
import { ShownFiles } from "../../parts/shown-files";
import { t } from "../../text";

export const OPERATIONS = [
  { name: "get", words: t("Read one by its key") },
  { name: "check", words: t("Tell whether it exists and has changed") },
  { name: "find", words: t("Find and page") },
  { name: "create", words: t("Create") },
  { name: "update", words: t("Change given fields") },
  { name: "save", words: t("Create or make equal") },
  { name: "delete", words: t("Delete") },
];

export function Wish({
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
  const [ticked, setTicked] = useState<string[]>(["get", "find"]);
  const [children, setChildren] = useState<string[]>([]);
  const [object, setObject] = useState("");
  const [service, setService] = useState("");
  const [role, setRole] = useState("");
  const [key, setKey] = useState("");
  const [zone, setZone] = useState("local");
  const [left, setLeft] = useState<Drafted["left_out"]>([]);
  const open = table.columns.filter((one) => one.zone === "open");
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
      const found = await ask<Drafted>("POST", base, {
        table: table.name,
        name: object,
        service,
        operations: ticked,
        roles: words(role),
        children,
        key: words(key),
        zone: open.length ? zone : "",
        save,
      });
      setLeft(found.left_out);
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
      ) : table.unique.length > 0 ? (
        <div className="mb-2.5">
          <Select
            label={t("Key")}
            value={key}
            onChange={setKey}
            options={[
              { value: "", word: t("{0} ({1})", table.key.join(", "), table.key_from) },
              ...table.unique.map((one) => ({ value: one, word: t("{0} (unique)", one) })),
            ]}
          />
        </div>
      ) : null}
      {open.length > 0 && (
        <div className="mb-2.5">
          <Select
            label={t("Moments of {0}", open.map((one) => one.name).join(", "))}
            value={zone}
            onChange={setZone}
            options={[
              { value: "local", word: t("are the clock on the wall") },
              { value: "utc", word: t("are in UTC") },
            ]}
          />
          <p className="mt-1 text-xs text-ink2">{t("The database does not say which zone they are in.")}</p>
        </div>
      )}
      <TextField
        label={t("Service")}
        hint={t("A new one that publishes it; none when left empty")}
        value={service}
        onChange={setService}
      />
      <TextField
        label={t("Roles")}
        hint={t("Who may call it; nobody when left empty")}
        value={role}
        onChange={setRole}
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
      <MakeActs ready={ready} onShow={() => void run(false)} />
      {act.problems.length > 0 && (
        <div className="mt-3">
          <Problems problems={act.problems} />
        </div>
      )}
      {left.map((one) => (
        <p key={one.table + one.column} className="mt-2 flex items-baseline gap-1.5 text-warn">
          <Mark name="risk" />
          <span>{t("{0}.{1} is left out: messages have no type for {2}.", one.table, one.column, one.declared)}</span>
        </p>
      ))}
      {made && (
        <MadeDrafts
          paths={made}
          service={service}
          seen={{ word: t("Look at the object →"), path: "/definitions/objects" }}
          environment={environment}
        />
      )}
      {shown && <ShownFiles files={shown} />}
    </form>
  );
}
