/** Workflows: the list, and the chosen one beside it. */
import { Plus } from "lucide-react";
import { useState } from "react";
import { useAddress } from "../../address";
import type { Language, WorkflowRow } from "../../api";
import { plural } from "../../formats";
import { useLoad } from "../../load";
import { Problems } from "../../parts/controls";
import { Mark } from "../../parts/marks";
import { mayAtLeast, useSession } from "../../session";
import { t } from "../../text";
import { Editor } from "./editor";
import { NewWorkflow } from "./insert";

export default function WorkflowsPage() {
  const may = mayAtLeast(useSession(), "integrator");
  const [search, setSearch] = useAddress();
  const list = useLoad<WorkflowRow[]>("/workflows", 20);
  const language = useLoad<Language>("/workflows-language");
  const name = search.get("workflow") ?? list.data?.[0]?.name ?? "";
  const [making, setMaking] = useState<"" | "new" | "copy">("");
  if (list.error && !list.data)
    return (
      <div className="p-5">
        <Problems problems={list.error.problems} />
      </div>
    );
  return (
    <div className="grid min-h-0 grow grid-cols-[176px_minmax(0,1fr)]">
      <nav aria-label={t("Workflows")} className="flex min-h-0 flex-col overflow-auto border-r border-line bg-inset">
        <div className="flex items-center px-4 py-2">
          <b className="text-[13px] font-semibold">{t("Workflows")}</b>
          {may && (
            <button
              type="button"
              className="ibtn ml-auto"
              aria-label={t("New workflow")}
              onClick={() => setMaking("new")}
            >
              <Plus size={16} strokeWidth={1.75} />
            </button>
          )}
        </div>
        {list.data?.map((one) => (
          <button
            key={one.name}
            type="button"
            aria-pressed={one.name === name}
            onClick={() => setSearch({ workflow: one.name, step: null, call: null })}
            className={`block w-full border-t border-line px-4 py-1.5 text-left last:border-b ${one.name === name ? "chosen" : ""}`}
          >
            <span className="flex items-center gap-1.5">
              <b className="truncate font-semibold">{one.name}</b>
              {one.problems > 0 && <Mark name="risk" label={t("{0} mistakes", one.problems)} />}
            </span>
            <span className="block truncate text-xs text-ink2">
              {one.run_by.length
                ? one.run_by.map((run) => `${run.service}.${run.operation}`).join(", ")
                : plural(one.steps, "step")}
            </span>
          </button>
        ))}
        {list.data && !list.data.length && <p className="px-4 text-ink2">{t("No workflow yet.")}</p>}
      </nav>
      {name && list.data && (
        <Editor
          key={name}
          name={name}
          row={list.data.find((one) => one.name === name)}
          language={language.data}
          may={may}
          onCopy={() => setMaking("copy")}
          onSaved={list.reload}
        />
      )}
      <NewWorkflow
        open={making}
        original={name}
        onClose={() => setMaking("")}
        onMade={(made) => {
          setMaking("");
          list.reload();
          setSearch({ workflow: made, step: null, call: null });
        }}
      />
    </div>
  );
}
