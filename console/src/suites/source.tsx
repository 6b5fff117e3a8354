/** The text of a suite: saved as a draft, and told at once in what it does not fit. */
import { Save } from "lucide-react";
import { useState } from "react";
import { ask, type SuiteDetail } from "../api";
import { useAct } from "../act";
import { useSaveKey } from "../definitions/save";
import { CopyButton, Problems } from "../parts/controls";
import { mayAtLeast, useSession } from "../session";
import { rich, t } from "../text";

export function SuiteText({ suite, onSaved }: { suite: SuiteDetail; onSaved: () => void }) {
  const may = mayAtLeast(useSession(), "integrator");
  const act = useAct();
  const [pen, setPen] = useState<string>();
  const [said, setSaid] = useState("");
  const text = pen ?? suite.text;
  const dirty = pen !== undefined && pen !== suite.text;
  const save = () =>
    act.run(async () => {
      await ask("POST", "/definitions", { files: { [suite.path]: text } });
      setSaid(t("Saved. It runs as it is now; gates take it with the next release."));
      setPen(undefined);
      onSaved();
    });
  useSaveKey(dirty && may && !act.busy, save);
  return (
    <>
      <div className="flex h-[40px] shrink-0 items-center gap-2 border-y border-line px-5">
        <span className="truncate font-mono text-[12.5px]">{suite.path}</span>
        <CopyButton text={text} what={t("the text")} />
        <span className="ml-auto text-xs text-ink2" role="status">
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
        <div className="max-h-56 overflow-auto border-b border-line px-5 py-2">
          <Problems problems={act.problems} />
        </div>
      )}
      <textarea
        aria-label={t("Text of {0}", suite.name)}
        spellCheck={false}
        readOnly={!may}
        value={text}
        onChange={(event) => setPen(event.target.value)}
        className="min-h-0 grow resize-none bg-inset px-5 py-3 font-mono text-[12.5px] leading-[19px]"
      />
    </>
  );
}
