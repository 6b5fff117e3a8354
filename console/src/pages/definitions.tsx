/** Definitions as text: the canonical YAML of every draft, edited in place; nothing is overwritten unseen. */
import { Save } from "lucide-react";
import { useState } from "react";
import { useAddress } from "../address";
import { ask } from "../api";
import { useAct } from "../act";
import { useSaveKey } from "../definitions/save";
import { DefinitionTabs } from "../definitions/tabs";
import { useLoad } from "../load";
import { CopyButton, NotLoaded, Problems } from "../parts/controls";
import { mayAtLeast, useSession } from "../session";
import { when } from "../formats";
import { rich, t } from "../text";

interface Exported {
  files: Record<string, string>;
  revisions: Record<string, number>;
}
interface Revision {
  revision: number;
  author: string;
  at: string;
  text: string;
}

export default function DefinitionsPage() {
  const may = mayAtLeast(useSession(), "integrator");
  const [search, setSearch] = useAddress();
  const { data, error, reload } = useLoad<Exported>("/definitions", 10);
  const act = useAct();
  // The text under the pen, with the revisions that it started from.
  const [pen, setPen] = useState<{ path: string; text: string; based: Record<string, number> } | null>(null);
  const [said, setSaid] = useState("");
  const [narrow, setNarrow] = useState("");
  const paths = Object.keys(data?.files ?? {})
    .filter((one) => one.toLowerCase().includes(narrow.toLowerCase()))
    .sort();
  const path = search.get("file") ?? paths[0] ?? "";
  const stored = data?.files[path] ?? "";
  const text = pen?.path === path ? pen.text : stored;
  const [kind = "", name = ""] = /^(\w+): (\S+)/.exec(stored)?.slice(1) ?? [];
  const history = useLoad<Revision[]>(kind ? `/definitions/${kind}/${encodeURIComponent(name)}/revisions` : null, 10);
  const dirty = pen?.path === path && pen.text !== stored;
  const choose = (next: string) => {
    if (dirty && !window.confirm(t("Leave without saving the changes?"))) return;
    setPen(null);
    setSaid("");
    act.clear();
    setSearch({ file: next });
  };
  const save = () =>
    act.run(async () => {
      setSaid("");
      if (!pen) return;
      const done = await ask<{ changes: { action: string; effective: string }[] }>("POST", "/definitions", {
        files: { [pen.path]: pen.text },
        based_on: pen.based,
      });
      const change = done.changes[0];
      setSaid(
        change?.effective
          ? t("In effect since {0} UTC.", change.effective.slice(11, 19))
          : change?.action === "unchanged"
            ? t("Nothing changed.")
            : t("Saved as a draft. What is live has not changed."),
      );
      setPen(null);
      reload();
      history.reload();
    });

  useSaveKey(dirty && may && !act.busy, save);

  if (error && !data) return <NotLoaded error={error} />;
  if (!data) return null;
  return (
    <>
      <DefinitionTabs at="/definitions" />
      <div className="grid min-h-0 grow grid-cols-[252px_minmax(0,1fr)_252px]">
        <nav aria-label={t("Definitions")} className="min-h-0 overflow-auto border-r border-line bg-inset">
          <h1 className="px-5 pt-3 pb-1.5 text-[15px] font-semibold">{t("Definitions")}</h1>
          <div className="px-5 pb-2">
            <input
              data-narrow
              className="field"
              placeholder={t("Narrow by name")}
              aria-label={t("Narrow by name")}
              value={narrow}
              onChange={(event) => setNarrow(event.target.value)}
            />
          </div>
          {paths.map((one) => (
            <button
              key={one}
              type="button"
              aria-pressed={one === path}
              onClick={() => choose(one)}
              className={`block w-full truncate border-t border-line px-5 py-1 text-left font-mono text-[12.5px] last:border-b ${one === path ? "chosen" : ""}`}
            >
              {one.replace(/\.yaml$/, "")}
            </button>
          ))}
          {!paths.length && <p className="px-5 text-ink2">{t("Nothing matches.")}</p>}
        </nav>
        <section className="flex min-h-0 min-w-0 flex-col" aria-label={t("Text")}>
          <div className="flex h-[44px] shrink-0 items-center gap-2 border-b border-line px-5">
            <h2 className="truncate font-mono text-[12.5px]">{path}</h2>
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
            aria-label={t("Text of {0}", path)}
            spellCheck={false}
            readOnly={!may}
            value={text}
            onChange={(event) =>
              setPen({ path, text: event.target.value, based: pen?.path === path ? pen.based : data.revisions })
            }
            className="min-h-0 grow resize-none bg-inset px-5 py-3 font-mono text-[12.5px] leading-[19px]"
          />
        </section>
        <aside className="min-h-0 overflow-auto border-l border-line" aria-label={t("Revisions")}>
          <h2 className="px-4 pt-3 pb-1.5 text-[15px] font-semibold">{t("Revisions")}</h2>
          {history.data?.map((one) => (
            <div key={one.revision} className="border-t border-line px-4 py-1.5">
              <span className="flex">
                <b className="font-semibold">{one.author}</b>
                <span className="ml-auto text-xs text-ink2">{when(one.at)}</span>
              </span>
              {one.text === stored ? (
                <span className="text-ink2">{t("as it is now")}</span>
              ) : one.text ? (
                <button
                  type="button"
                  className="act"
                  aria-disabled={!may}
                  onClick={() => {
                    if (may) setPen({ path, text: one.text, based: data.revisions });
                  }}
                >
                  {t("Take this text up again")}
                </button>
              ) : (
                <span className="text-ink2">{t("removed")}</span>
              )}
            </div>
          ))}
        </aside>
      </div>
    </>
  );
}
