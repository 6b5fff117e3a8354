/** All drafts: each as a form and as its canonical text; what is new begins here. Nothing is overwritten unseen. */
import { Plus } from "lucide-react";
import { useCallback, useState } from "react";
import { useAddress } from "../address";
import type { Forms, KnownNames, Overview } from "../api";
import { Chooser } from "../definitions/chooser";
import { ConnectBackend } from "../definitions/connect";
import { DefinitionEditor } from "../definitions/editor";
import { DefinitionTabs } from "../definitions/tabs";
import { useLoad } from "../load";
import { NotLoaded, Select } from "../parts/controls";
import { mayAtLeast, useSession } from "../session";
import { rich, t } from "../text";

const ANY = "any";

interface Exported {
  files: Record<string, string>;
  revisions: Record<string, number>;
}

export default function DefinitionsPage() {
  const may = mayAtLeast(useSession(), "integrator");
  const [search, setSearch] = useAddress();
  const { data, error, reload } = useLoad<Exported>("/definitions", 10);
  const forms = useLoad<Forms>("/forms");
  const names = useLoad<KnownNames>("/names", 30);
  const [dirty, setDirty] = useState(false);
  const [told, setTold] = useState("");
  const [narrow, setNarrow] = useState("");
  const leaving = () => !dirty || window.confirm(t("Leave without saving the changes?"));
  const onDirty = useCallback((now: boolean) => setDirty(now), []);
  const paths = Object.keys(data?.files ?? {})
    .filter((one) => one.toLowerCase().includes(narrow.toLowerCase()))
    .sort();
  const making = search.get("new");
  const named = search.get("of"); // "kind name": for links that know no file
  const file = named
    ? Object.keys(data?.files ?? {}).find((one) => isOf(data?.files[one] ?? "", named))
    : search.get("file");
  const path = making === null ? (file ?? paths[0] ?? "") : "";
  const stored = data?.files[path] ?? "";
  const kind = making || (/^([\w-]+): /.exec(stored)?.[1] ?? "");
  const choose = (next: Record<string, string>) => {
    if (!leaving()) return;
    setDirty(false);
    setTold("");
    setSearch({ file: "", new: null, of: null, ...next });
  };
  const failure = error ?? forms.error ?? names.error;
  if (failure && !(data && forms.data && names.data)) return <NotLoaded error={failure} />;
  if (!data || !forms.data || !names.data) return null;
  return (
    <>
      <DefinitionTabs at="/definitions" />
      <div className="grid min-h-0 grow grid-cols-[216px_minmax(0,1fr)] grid-rows-[minmax(0,1fr)]">
        <nav aria-label={t("Definitions")} className="min-h-0 overflow-auto border-r border-line bg-inset">
          <div className="flex items-center px-4 pt-2.5 pb-1.5">
            <h2 className="text-[15px] font-semibold">{t("Definitions")}</h2>
            {may && (
              <button type="button" className="btn ml-auto" onClick={() => choose({ new: ANY })}>
                {rich("{0}New", <Plus size={14} />)}
              </button>
            )}
          </div>
          <div className="px-4 pb-2">
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
              title={one}
              onClick={() => choose({ file: one })}
              className={`block w-full truncate border-t border-line px-4 py-1 text-left font-mono text-[12.5px] last:border-b ${one === path ? "chosen" : ""}`}
            >
              {one.replace(/\.yaml$/, "")}
            </button>
          ))}
          {!paths.length && <p className="px-4 text-ink2">{t("Nothing matches.")}</p>}
        </nav>
        {making === ANY || (!path && making === null) ? (
          <Chooser />
        ) : making === "backend" ? (
          <NewBackend
            files={data.files}
            onDone={() => {
              reload();
              names.reload();
            }}
          />
        ) : path && !(path in data.files) ? (
          <p className="px-5 py-3 text-ink2">{told ? "" : t("There is no definition at {0}.", path)}</p>
        ) : (
          <DefinitionEditor
            key={path || `new ${kind}`}
            path={path}
            kind={kind}
            stored={stored}
            revisions={data.revisions}
            forms={forms.data}
            known={names.data}
            onDirty={onDirty}
            told={told}
            onSaved={(saved, words) => {
              setDirty(false);
              reload();
              names.reload();
              if (!path) setTold(words);
              if (!path) setSearch({ file: saved, new: null });
            }}
          />
        )}
      </div>
    </>
  );
}

/** Whether a text is that of a definition, "kind name". */
function isOf(text: string, named: string): boolean {
  const [kind = "", name = ""] = named.split(" ");
  return text.startsWith(`${kind}: ${name}\n`);
}

/** A backend with its binding and credential; beside it the text of the environment where it is bound. */
function NewBackend({ files, onDone }: { files: Record<string, string>; onDone: () => void }) {
  const environments = useLoad<Overview>("/overview").data?.environments ?? [];
  const [chosen, setChosen] = useState("");
  const environment = chosen || environments[0]?.name || "";
  const text = Object.values(files).find((one) => one.startsWith(`environment: ${environment}\n`)) ?? "";
  return (
    <div className="grid min-h-0 grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
      <section aria-label={t("Form")} className="min-h-0 overflow-auto border-r border-line px-5 py-3">
        <h1 className="mb-2 text-[17px] font-semibold">{t("A new backend, and the way there")}</h1>
        {environment ? (
          <>
            <div className="mb-3">
              <span className="lbl">{t("In which environment")}</span>
              <Select
                label={t("In which environment")}
                value={environment}
                onChange={setChosen}
                options={environments.map((one) => ({ value: one.name, word: one.name }))}
              />
            </div>
            <ConnectBackend key={environment} environment={environment} onDone={onDone} />
          </>
        ) : (
          <p className="text-ink2">{t("It is somewhere, so make an environment first.")}</p>
        )}
      </section>
      <section aria-label={t("Text")} className="flex min-h-0 flex-col">
        <h2 className="border-b border-line px-4 py-2.5 text-sm font-semibold">
          {t("The environment {0}, as it is", environment)}
        </h2>
        <pre className="min-h-0 grow overflow-auto bg-inset px-4 py-3 font-mono text-[12.5px] leading-[19px]">
          {text}
        </pre>
      </section>
    </div>
  );
}
