/** A place to drop files and folders, or to choose them. */
import { FileUp } from "lucide-react";
import { useRef, useState } from "react";
import { chosenFiles, droppedFiles, type Files } from "../files";
import { plural } from "../formats";
import { rich, t } from "../text";

export function DropFiles({
  label,
  hint,
  names,
  onTake,
}: {
  label: string;
  hint: string;
  /** What was taken. */
  names: string[];
  onTake: (files: Files) => void;
}) {
  const [over, setOver] = useState(false);
  const picker = useRef<HTMLInputElement>(null);
  return (
    <div
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        event.preventDefault();
        setOver(false);
        void droppedFiles(event.dataTransfer).then(onTake);
      }}
      className={`flex min-h-20 items-center gap-3 rounded-[3px] border border-dashed px-4 py-3 ${over ? "border-accent bg-wash" : "border-edge bg-inset"}`}
    >
      <button type="button" className="btn" onClick={() => picker.current?.click()}>
        <FileUp size={15} strokeWidth={1.75} />
        {t("Choose files")}
      </button>
      <input
        ref={picker}
        type="file"
        multiple
        hidden
        aria-label={label}
        onChange={(event) => {
          if (event.target.files) void chosenFiles(event.target.files).then(onTake);
        }}
      />
      <p className="min-w-0 text-ink2">
        {names.length
          ? rich(
              "{0}: {1}",
              plural(names.length, "file"),
              <span className="font-mono text-[12.5px] break-all text-ink">{names.slice(0, 6).join(", ")}</span>,
            )
          : hint}
      </p>
    </div>
  );
}
