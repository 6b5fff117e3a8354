/** What lays out the area that is worked on: a kept copybook or a new one, how it is read, and what came of it. */
import { Plus } from "lucide-react";
import type { KeptCopybook } from "../../api";
import { Select } from "../../parts/controls";
import { Labelled, TextField } from "../../parts/dialog";
import { t } from "../../text";
import { CODE_PAGES, layoutOf, plain, replacings, type AreaWork } from "./types";

export function Head({
  area,
  list,
  codePage,
  may,
  onPick,
  onChange,
  onCodePage,
  onSave,
  onAdd,
}: {
  area: AreaWork;
  list: readonly KeptCopybook[];
  codePage: string;
  may: boolean;
  onPick: (name: string) => void;
  onChange: (part: Partial<AreaWork>) => void;
  onCodePage: (codePage: string) => void;
  onSave: () => void;
  onAdd?: () => void;
}) {
  const { copybook, found } = area;
  const kept = list.find((one) => one.name === area.kept);
  const layout = layoutOf(area);
  const changed = !kept || JSON.stringify(plain(kept)) !== JSON.stringify(copybook);
  return (
    <div className="flex shrink-0 items-end gap-3">
      <div className="w-40">
        <Labelled label={t("Copybook")}>
          {(id) => (
            <Select
              id={id}
              label={t("Copybook")}
              value={area.kept}
              options={[
                ...list.map((one) => ({ value: one.name, word: one.name })),
                { value: "", word: t("a new one") },
              ]}
              onChange={onPick}
            />
          )}
        </Labelled>
      </div>
      {!area.kept && (
        <div className="w-36">
          <TextField
            label={t("Name")}
            value={copybook.name}
            placeholder="toll-area"
            onChange={(name) => onChange({ copybook: { ...copybook, name } })}
          />
        </div>
      )}
      <div className="w-28">
        <Labelled label={t("Code page")}>
          {(id) => (
            <Select
              id={id}
              label={t("Code page")}
              value={codePage}
              mono
              options={CODE_PAGES.map((value) => ({ value, word: value }))}
              onChange={onCodePage}
            />
          )}
        </Labelled>
      </div>
      <div className="w-36">
        <TextField
          label={t("Replacing")}
          value={area.typed}
          placeholder=":TAG:=LOCK"
          title={t("As in COPY REPLACING: OLD=NEW, several with commas between them")}
          onChange={(typed) => onChange({ typed, copybook: { ...copybook, replacing: replacings(typed) } })}
        />
      </div>
      {found && found.records.length > 1 && (
        <div className="w-40">
          <Labelled label={t("Record")}>
            {(id) => (
              <Select
                id={id}
                label={t("Record")}
                mono
                value={layout?.record ?? ""}
                options={found.records.map((one) => ({ value: one.record, word: one.record }))}
                onChange={(record) => onChange({ record, sides: null })}
              />
            )}
          </Labelled>
        </div>
      )}
      <p className="mb-2.5 min-w-0 text-ink2">
        {layout &&
          (layout.shortest === layout.length
            ? t("{0}, {1} bytes, {2} format", layout.record, layout.length, found?.source_format ?? "")
            : t(
                "{0}, {1} to {2} bytes, {3} format",
                layout.record,
                layout.shortest,
                layout.length,
                found?.source_format ?? "",
              ))}
        {kept && kept.programs.length > 0 && ` · ${t("lays out {0}", kept.programs.join(", "))}`}
        {Object.keys(copybook.members).length > 0 && ` · ${t("copies {0}", Object.keys(copybook.members).join(", "))}`}
      </p>
      {may && (
        <span className="mb-2.5 ml-auto flex shrink-0 gap-3">
          {onAdd && (
            <button type="button" className="btn" onClick={onAdd}>
              <Plus size={15} strokeWidth={1.75} />
              {t("Another area")}
            </button>
          )}
          <button
            type="button"
            className="btn"
            aria-disabled={!copybook.name || !layout || !changed}
            onClick={() => {
              if (copybook.name && layout && changed) onSave();
            }}
          >
            {t("Save the copybook")}
          </button>
        </span>
      )}
    </div>
  );
}
