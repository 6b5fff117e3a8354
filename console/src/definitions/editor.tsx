/** One definition, new or known: its form and its text side by side; what is typed in one shows in the other. */
import { Save, ClipboardPaste } from "lucide-react";
import { useEffect, useMemo, useState } from "react";
import { Link } from "wouter";
import { ask, type DefinitionChange, type Forms, type KnownNames, type Problem } from "../api";
import { useAct } from "../act";
import { FORM_KINDS } from "./chooser";
import { Revisions, type Revision } from "./revisions";
import { useSaveKey } from "./save";
import { useDraft } from "../forms/draft";
import { GrammarContext, asLine, type Grammar } from "../forms/grammar";
import { Group } from "../forms/group";
import { FromSample, Message, type DrawnRecord } from "../forms/sample";
import { TextPane } from "../forms/text";
import { kindOf } from "../kinds";
import { useLens, within } from "../lens";
import { useLoad } from "../load";
import { CopyButton, Problems, Segments } from "../parts/controls";
import { Panel } from "../parts/dialog";
import { Diff } from "../parts/diff";
import { mayAtLeast, useSession } from "../session";
import { rich, t } from "../text";

interface Done {
  changes: DefinitionChange[];
  breaks: Problem[];
}

export function DefinitionEditor({
  path,
  kind,
  stored,
  revisions,
  forms,
  known,
  told,
  onSaved,
  onDirty,
}: {
  /** Of a known one its file, of a new one nothing. */
  path: string;
  kind: string;
  stored: string;
  /** Of all definitions, by "kind name". */
  revisions: Record<string, number>;
  forms: Forms;
  known: KnownNames;
  /** What the last save did, where this was new before it. */
  told: string;
  onSaved: (path: string, told: string) => void;
  onDirty: (dirty: boolean) => void;
}) {
  const may = mayAtLeast(useSession(), "integrator");
  const [view] = useLens();
  const act = useAct();
  const draft = useDraft(kind, stored, FORM_KINDS.includes(kind));
  const [beside, setBeside] = useState<"text" | "sample" | "revisions">("text");
  const [said, setSaid] = useState(told);
  const [based, setBased] = useState<Record<string, number> | null>(null);
  const [sampling, setSampling] = useState(false);
  const [also, setAlso] = useState<DrawnRecord[]>([]);
  const [focus, setFocus] = useState("");
  const [plan, setPlan] = useState<Done | null>(null);
  const live = forms.kinds.find((one) => one.kind === (draft.kind || kind))?.live ?? false;
  const name = asLine(draft.values?.name);
  const history = useLoad<Revision[]>(
    path ? `/definitions/${draft.kind || kind}/${encodeURIComponent(storedName(stored))}/revisions` : null,
    10,
  );
  const drawn = FORM_KINDS.includes(draft.kind || kind);
  const isRecord = (draft.kind || kind) === "record";
  const folder = forms.kinds.find((one) => one.kind === draft.kind)?.folder ?? "";
  const target = path || `${folder}/${name}.yaml`;
  const taken = !path && name !== "" && `${draft.kind} ${name}` in revisions;
  const dirty = draft.pending
    ? based !== null
    : path
      ? draft.text !== stored
      : name !== "" || draft.text.split("\n").length > 2;
  useEffect(() => onDirty(dirty), [dirty, onDirty]);

  const grammar: Grammar = useMemo(
    () => ({
      kinds: Object.fromEntries(forms.kinds.map((one) => [one.kind, one.group])),
      folders: Object.fromEntries(forms.kinds.map((one) => [one.kind, one.folder])),
      groups: forms.groups,
      names: { ...known.names, record: [...(known.names.record ?? []), ...also.map((one) => one.name)] },
      engines: known.engines,
      whole: draft.values ?? {},
      may,
    }),
    [forms, known, draft.values, may, also],
  );
  const pick = (work: () => void) => {
    setSaid("");
    setBased((old) => old ?? revisions);
    work();
  };
  /** What would hurt, or is in effect at once, is shown before it is done. */
  const save = (agreed = false) =>
    act.run(async () => {
      setSaid("");
      const text = await draft.settled();
      const files: Record<string, string> = { [target]: text };
      for (const one of also) files[one.path] = one.text;
      const body = { files, based_on: based ?? revisions };
      if (!agreed) {
        const planned = await ask<Done>("POST", "/definitions", { ...body, plan_only: true });
        if (planned.breaks.length || (live && planned.changes.some((one) => one.action !== "unchanged"))) {
          setPlan(planned);
          return;
        }
      }
      setPlan(null);
      const done = await ask<Done>("POST", "/definitions", body);
      const change = done.changes.find((one) => one.path === target) ?? done.changes[0];
      const words = change?.effective
        ? t("In effect since {0} UTC.", change.effective.slice(11, 19))
        : change?.action === "unchanged"
          ? t("Nothing changed.")
          : t("Saved as a draft. What is live has not changed.");
      setSaid(words);
      setBased(null);
      setAlso([]);
      history.reload();
      onSaved(target, words);
    });
  const ready = dirty && may && !act.busy && !taken && (path !== "" || name !== "");
  useSaveKey(ready, () => void save());

  const problems: Problem[] = taken
    ? [
        {
          code: "definition.taken",
          kind: "conflict",
          message: t("There is a {0} of this name.", draft.kind),
          found: name,
          mend: t("Take another name, or open the one that is there."),
        },
      ]
    : [...act.problems, ...draft.problems];
  const wrong = draft.problems.map((one) => lineOf(one)).filter((one) => one > 0);
  const marked = draft.lines.find((one) => one.at.join("/") === focus)?.line ?? 0;
  const editor = kindOf(draft.kind).link(name || storedName(stored));
  const group = grammar.kinds[draft.kind];

  return (
    <div
      className={`grid min-h-0 min-w-0 ${drawn ? "grid-cols-[minmax(0,1.15fr)_minmax(0,1fr)]" : "grid-cols-[minmax(0,1fr)]"}`}
    >
      {drawn && (
        <section
          aria-label={t("Form")}
          className="min-h-0 overflow-auto border-r border-line px-5 py-3"
          onFocus={(event) => {
            const at = event.target.closest<HTMLElement>("[data-path]")?.dataset.path;
            if (at) setFocus(at);
          }}
        >
          <div className="mb-2 flex items-center gap-2">
            <h1 className="truncate text-[17px] font-semibold">
              {path ? name || storedName(stored) : t("A new {0}", (draft.kind || kind).replaceAll("-", " "))}
            </h1>
            {isRecord && may && (
              <button type="button" className="btn ml-auto" onClick={() => setSampling(true)}>
                {rich("{0}From a sample or a schema", <ClipboardPaste size={14} />)}
              </button>
            )}
            {editor && path && !editor.path.startsWith("/definitions?") && (
              <Link className={`act ${isRecord ? "" : "ml-auto"}`} href={within(editor.path, view)}>
                {editor.word}
              </Link>
            )}
          </div>
          {draft.values && group ? (
            <GrammarContext.Provider value={grammar}>
              <Group
                group={group}
                values={draft.values}
                path={[]}
                onChange={(values) => pick(() => draft.setValues(values))}
                leave={path ? ["name"] : []}
                first={["description"]}
              />
            </GrammarContext.Provider>
          ) : (
            <p className="text-ink2">{t("The text beside cannot be read as a definition; mend it there.")}</p>
          )}
          {also.length > 0 && (
            <p className="text-ink2">{t("Saved with it: {0}.", also.map((one) => one.name).join(", "))}</p>
          )}
        </section>
      )}
      <div className="flex min-h-0 min-w-0 flex-col">
        <div className="flex h-[44px] shrink-0 items-center gap-2 border-b border-line px-4">
          <Segments
            label={t("Beside the form")}
            value={beside}
            onChange={setBeside}
            options={[
              { value: "text" as const, word: t("Text") },
              ...(isRecord ? [{ value: "sample" as const, word: t("Sample message") }] : []),
              ...(path ? [{ value: "revisions" as const, word: t("Revisions") }] : []),
            ]}
          />
          <CopyButton text={draft.text} what={t("the text")} />
          {editor && !drawn && (
            <Link className="act" href={within(editor.path, view)}>
              {editor.word}
            </Link>
          )}
          <span className="ml-auto truncate text-xs text-ink2" role="status">
            {dirty ? t("changed, not saved") : said}
          </span>
          <button
            type="button"
            className="btn btn-main shrink-0"
            aria-disabled={!ready}
            title={may ? undefined : t("Editing needs the role integrator")}
            onClick={() => {
              if (ready) void save();
            }}
          >
            {rich("{0}Save{1}", <Save size={15} strokeWidth={1.75} />, <kbd className="kbd-in">Ctrl S</kbd>)}
          </button>
        </div>
        {beside === "text" && (
          <TextPane
            path={target}
            text={draft.text}
            marked={marked}
            wrong={wrong}
            readOnly={!may}
            onChange={(text) => pick(() => draft.setText(text))}
          />
        )}
        {beside === "sample" && <Message texts={[draft.text, ...also.map((one) => one.text)]} />}
        {beside === "revisions" && (
          <Revisions
            revisions={history.data ?? []}
            stored={stored}
            may={may}
            onTake={(text) => {
              pick(() => draft.setText(text));
              setBeside("text");
            }}
          />
        )}
        {problems.length > 0 && dirty && (
          <div className="max-h-56 shrink-0 overflow-auto border-t border-line px-4 py-2">
            <Problems problems={problems.slice(0, 6)} mark={act.problems.length || taken ? "fault" : "risk"} />
          </div>
        )}
      </div>
      {plan && (
        <SavePlan
          plan={plan}
          live={live}
          busy={act.busy}
          onSave={() => void save(true)}
          onClose={() => setPlan(null)}
        />
      )}
      {sampling && (
        <FromSample
          name={path ? storedName(stored) : name}
          onClose={() => setSampling(false)}
          onTake={(records) => {
            const [first, ...rest] = records;
            if (first) pick(() => draft.setValues(path ? { ...first.values, name: storedName(stored) } : first.values));
            setAlso(rest.filter((one) => one.known === ""));
            setSampling(false);
          }}
        />
      )}
    </div>
  );
}

/** What a save would do, where it hurts or is in effect at once. */
function SavePlan({
  plan,
  live,
  busy,
  onSave,
  onClose,
}: {
  plan: Done;
  live: boolean;
  busy: boolean;
  onSave: () => void;
  onClose: () => void;
}) {
  return (
    <Panel title={live ? t("This is in effect at once") : t("Something would not fit")} open wide onClose={onClose}>
      {plan.changes.map((one) => (
        <section key={one.path} className="mb-3">
          <h3 className="mb-1 font-mono text-[12.5px]">
            {one.path} <span className="text-ink2">{one.action}</span>
          </h3>
          <Diff lines={one.lines} label={t("Changes of {0}", one.path)} />
        </section>
      ))}
      <Problems problems={plan.breaks} mark="risk" />
      <div className="mt-3 flex gap-2">
        <button type="button" className="btn btn-main" disabled={busy} onClick={onSave}>
          {live ? t("Save, in effect at once") : t("Save it all the same")}
        </button>
        <button type="button" className="btn" onClick={onClose}>
          {t("Cancel")}
        </button>
      </div>
    </Panel>
  );
}

const storedName = (text: string) => /^[\w-]+: (\S+)/.exec(text)?.[1] ?? "";

/** The line that a problem names at the end of its place. */
const lineOf = (problem: Problem) => Number(/:(\d+)$/.exec(problem.place ?? "")?.[1] ?? 0);
