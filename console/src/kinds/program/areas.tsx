/** The areas of a program, in the order of its USING: what each is called, and whether it goes in, comes out, or both. */
import { Plus } from "lucide-react";
import { Segments, Select } from "../../parts/controls";
import { Labelled, TextField } from "../../parts/dialog";
import { t } from "../../text";
import type { AreaWork, Use } from "./types";

export function Areas({
  areas,
  at,
  onPick,
  onChange,
  onAdd,
  onRemove,
}: {
  areas: readonly AreaWork[];
  at: number;
  onPick: (at: number) => void;
  onChange: (part: Partial<AreaWork>) => void;
  onAdd: () => void;
  onRemove: () => void;
}) {
  const area = areas[at];
  if (!area) return null;
  const uses: { value: Use; word: string }[] = [
    { value: "both", word: t("goes in and comes out") },
    { value: "in", word: t("only goes in") },
    { value: "out", word: t("only comes out") },
  ];
  return (
    <div className="flex shrink-0 items-end gap-3 border-t border-line pt-2">
      <div className="mb-2.5">
        <Segments
          label={t("Areas, in the order of USING")}
          value={String(at)}
          options={areas.map((one, index) => ({ value: String(index), word: `${index + 1} ${one.name}` }))}
          onChange={(value) => onPick(Number(value))}
        />
      </div>
      <div className="w-40">
        <TextField label={t("Name of the area")} value={area.name} onChange={(name) => onChange({ name })} />
      </div>
      <div className="w-52">
        <Labelled label={t("Used")}>
          {(id) => (
            <Select id={id} label={t("Used")} value={area.use} options={uses} onChange={(use) => onChange({ use })} />
          )}
        </Labelled>
      </div>
      <button type="button" className="btn mb-2.5" onClick={onRemove}>
        {t("Take this area away")}
      </button>
      <button type="button" className="btn mb-2.5" onClick={onAdd}>
        <Plus size={15} strokeWidth={1.75} />
        {t("Another area")}
      </button>
    </div>
  );
}
