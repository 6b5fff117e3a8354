/** One workflow as a picture, as an outline or as text, with the chosen step beside it. */
import { Copy, Play, Plus, Save, Share } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { useAct } from "../../act";
import { useAddress } from "../../address";
import {
  ask,
  type Call,
  type CallDetail,
  type Language,
  type Span,
  type WorkflowLook,
  type WorkflowRow,
} from "../../api";
import { useSaveKey } from "../../definitions/save";
import { plural } from "../../formats";
import { steps as walk, useKeys } from "../../hotkeys";
import { ALL, useLens } from "../../lens";
import { useLoad } from "../../load";
import { Problems, Segments, Select } from "../../parts/controls";
import { Mark } from "../../parts/marks";
import { rich, t } from "../../text";
import type { Around } from "./fields";
import { Frame } from "./frame";
import { Insert } from "./insert";
import { Outline } from "./outline";
import { Picture } from "./picture";
import { PublishPanel } from "../../definitions/publish";
import { RunPanel } from "./run";
import { StepPane } from "./step";
import {
  flat,
  freeName,
  FRESH,
  inserted,
  moved,
  removed,
  renamed,
  replaced,
  withProposals,
  type Action,
  type Spot,
  type Step,
  type Steps,
} from "./tree";

type Definition = { [key: string]: unknown };
type Way = "picture" | "outline" | "text";

export function Editor({
  name,
  row,
  language,
  may,
  onCopy,
  onSaved,
}: {
  name: string;
  row: WorkflowRow | undefined;
  language: Language | undefined;
  may: boolean;
  onCopy: () => void;
  onSaved: () => void;
}) {
  const [search, setSearch] = useAddress();
  const [view] = useLens();
  const [pen, setPen] = useState<Definition | null>(null);
  const [past, setPast] = useState<Definition[]>([]);
  const [typed, setTyped] = useState<string | null>(null);
  const [look, setLook] = useState<WorkflowLook | null>(null);
  const [inserting, setInserting] = useState<{ spot: Spot; after: string | null } | null>(null);
  const [publishing, setPublishing] = useState(false);
  const [running, setRunning] = useState(false);
  const [drawn, setDrawn] = useState<Span[] | null>(null);
  const [said, setSaid] = useState("");
  const act = useAct();
  const looking = useAct();
  const way = (search.get("as") ?? "picture") as Way;
  const call = search.get("call") ?? "";
  const chosen = search.get("step") ?? "";
  const asked = useRef(0);
  const environment = view === ALL ? "rehearsal" : view;
  const run = row?.run_by[0];
  const calls = useLoad<Call[]>(run ? `/calls?service=${encodeURIComponent(run.service)}&limit=20` : null, 10);
  const trace = useLoad<CallDetail>(call ? `/calls/${encodeURIComponent(call)}` : null);

  const written = () => (typed !== null ? { text: typed, call } : { definition: pen, call });
  // A look at what is written, a moment after it was; the newest counts.
  useEffect(() => {
    const number = ++asked.current;
    const body = written();
    const timer = setTimeout(
      () =>
        void looking.run(async () => {
          const found = await ask<WorkflowLook>("POST", `/workflows/${encodeURIComponent(name)}/look`, body);
          if (number !== asked.current) return;
          setLook(found);
          if (typed !== null && found.text) setPen(found.definition);
        }),
      pen || typed !== null ? 250 : 0,
    );
    return () => clearTimeout(timer);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- `looking` is made anew each time and is no cause of a look
  }, [pen, typed, call, name]);

  const definition: Definition = pen ?? look?.definition ?? {};
  const steps = (definition.steps ?? {}) as Steps;
  const nodes = flat(steps);
  const node = nodes.find((one) => one.path === chosen);
  const about = look?.steps.find((one) => one.step === chosen);
  const dirty = pen !== null;
  const spans = drawn ?? trace.data?.trace?.spans ?? [];
  const overlay = new Map(spans.map((one) => [one.name, one]));
  const wrong = new Set(look?.problems.map((one) => one.step).filter(Boolean));
  const around: Around = {
    workflow: name,
    definition,
    step: chosen,
    call,
    known: about?.known ?? [],
    problems: look?.problems.filter((one) => one.step === chosen) ?? [],
    may,
  };
  const change = (part: Definition) => {
    setSaid("");
    setTyped(null);
    setDrawn(null);
    setPast((old) => [...old.slice(-99), definition]);
    const next = { ...definition, ...part };
    for (const [key, value] of Object.entries(next)) if (value === undefined) delete next[key];
    setPen(next);
  };
  const setSteps = (next: Steps) => change({ steps: next });
  const choose = (path: string) => setSearch({ step: path });
  const undo = () => {
    const last = past.at(-1);
    if (!last) return;
    setPast(past.slice(0, -1));
    setPen(last);
    setTyped(null);
  };
  const remove = () => {
    if (!node || !may) return;
    if (
      flat({ x: node.step }).length > 1 &&
      !window.confirm(t("Take {0} out, with the steps inside of it?", node.name))
    )
      return;
    const index = nodes.indexOf(node);
    setSteps(removed(steps, node.path));
    choose(nodes[index - 1]?.path ?? "");
  };
  const move = (by: 1 | -1) => node && may && setSteps(moved(steps, node.path, by));
  const insert = (action: Action) => {
    if (!inserting) return;
    const made = freeName(steps, action === "reply" ? "answer" : action);
    setSteps(inserted(steps, inserting.spot, inserting.after, made, FRESH[action]));
    setInserting(null);
    choose([inserting.spot.path, inserting.spot.key, made].filter(Boolean).join("."));
  };
  const suggest = () => {
    if (!node || !about || !may) return;
    const filled = Object.entries(about.maps)
      .filter(([part]) => !part.includes(","))
      .map(([part, parts]) => [part, withProposals(parts, node.step[part])] as const)
      .filter(([part, tree]) => part in node.step || Object.keys(tree).length > 0);
    setSteps(replaced(steps, node.path, { ...node.step, ...Object.fromEntries(filled) }));
  };
  const save = () =>
    act.run(async () => {
      // Looked at anew: the last look may be older than the last key.
      const found = await ask<WorkflowLook>("POST", `/workflows/${encodeURIComponent(name)}/look`, written());
      setLook(found);
      if (!found.text) return;
      const path = row?.path ?? `workflows/${name}.yaml`;
      await ask("POST", "/definitions", {
        files: { [path]: found.text },
        based_on: { [`workflow ${name}`]: found.revision },
      });
      setPen(null);
      setTyped(null);
      setPast([]);
      setSaid(t("Saved as a draft. What is live has not changed."));
      onSaved();
    });
  const ready = dirty && may && !act.busy;
  useSaveKey(ready, save);
  useKeys({
    ...walk(nodes, node, (one) => choose(one.path)),
    i: () =>
      may && setInserting(node ? { spot: node.spot, after: node.name } : { spot: { path: "", key: "" }, after: null }),
    l: suggest,
    e: () => document.querySelector<HTMLElement>("[aria-label='The chosen step'] input")?.focus(),
    "Shift+J": () => move(1),
    "Shift+K": () => move(-1),
    Delete: remove,
    Escape: () => choose(""),
    "Ctrl+z": (event) => {
      if ((event.target as HTMLElement).closest("input,textarea")) return;
      event.preventDefault();
      undo();
    },
    "Ctrl+Enter": () => may && setRunning(true),
  });
  const drawnOnce = look !== null;
  useEffect(() => {
    document
      .querySelector(`[data-step="${CSS.escape(chosen)}"]`)
      ?.scrollIntoView({ block: "nearest", inline: "nearest" });
  }, [chosen, way, drawnOnce]);

  const shown = {
    chosen,
    choose,
    wrong,
    spans: overlay,
    insert: (spot: Spot, after: string | null) => may && setInserting({ spot, after }),
  };
  const count = look?.problems.length ?? 0;
  return (
    <div className="flex min-h-0 min-w-0 flex-col">
      <div className="flex items-center gap-3 border-b border-line px-5 pt-3 pb-2.5">
        <div className="min-w-0">
          <h1 className="truncate text-[20px] leading-6 font-semibold">{name}</h1>
          <p className="flex items-center gap-1.5 truncate text-xs text-ink2" role="status">
            <Mark name={count ? "risk" : "serving"} />
            {count ? plural(count, "mistake") : t("no mistakes")}
            {" · "}
            {dirty ? t("changed, not saved") : said || runBy(row)}
          </p>
        </div>
        <div className="ml-auto flex items-center gap-2">
          {run && (
            <div className="w-52">
              <Select
                label={t("Values of a call")}
                value={call}
                onChange={(next) => {
                  setDrawn(null);
                  setSearch({ call: next });
                }}
                options={[
                  { value: "", word: t("Values of the sample") },
                  ...(calls.data ?? []).map((one) => ({
                    value: one.id,
                    word: `${one.result} ${one.id.slice(-5)}, ${one.environment}`,
                  })),
                ]}
              />
            </div>
          )}
          <button type="button" className="btn" aria-disabled={!may} onClick={() => may && onCopy()}>
            <Copy size={15} strokeWidth={1.75} />
            {t("Copy")}
          </button>
          <button
            type="button"
            className="btn"
            aria-disabled={!may || dirty}
            title={dirty ? t("Save it first") : undefined}
            onClick={() => may && !dirty && setPublishing(true)}
          >
            <Share size={15} strokeWidth={1.75} />
            {t("Publish")}
          </button>
          <button type="button" className="btn" aria-disabled={!may} onClick={() => may && setRunning(true)}>
            <Play size={15} strokeWidth={1.75} />
            {t("Run it")}
          </button>
          <button
            type="button"
            className="btn btn-main"
            aria-disabled={!ready}
            title={may ? undefined : t("Editing needs the role integrator")}
            onClick={() => ready && void save()}
          >
            {rich("{0}Save{1}", <Save size={15} strokeWidth={1.75} />, <kbd className="kbd-in">Ctrl S</kbd>)}
          </button>
        </div>
      </div>
      {(act.problems.length > 0 || looking.problems.length > 0) && (
        <div className="max-h-40 overflow-auto border-b border-line px-5 py-2">
          <Problems problems={[...act.problems, ...looking.problems]} />
        </div>
      )}
      <div className="grid min-h-0 grow grid-cols-[minmax(0,9fr)_minmax(0,11fr)]">
        <div className="flex min-h-0 min-w-0 flex-col border-r border-line">
          <div className="flex items-center gap-3 border-b border-line px-5 py-1.5">
            <b className="text-[13px] font-semibold">{t("Steps")}</b>
            <span className="truncate text-xs text-ink2">
              {drawn ? t("times of the run") : call ? t("times of that call") : plural(nodes.length, "step")}
            </span>
            <span className="ml-auto">
              <Segments
                label={t("Shown as")}
                value={way}
                onChange={(next) => setSearch({ as: next === "picture" ? "" : next })}
                options={[
                  { value: "picture", word: t("Picture") },
                  { value: "outline", word: t("Outline") },
                  { value: "text", word: t("Text") },
                ]}
              />
            </span>
            {may && (
              <button
                type="button"
                className="ibtn"
                aria-label={t("Insert a step")}
                onClick={() =>
                  setInserting(
                    node
                      ? { spot: node.spot, after: node.name }
                      : { spot: { path: "", key: "" }, after: Object.keys(steps).at(-1) ?? null },
                  )
                }
              >
                <Plus size={16} strokeWidth={1.75} />
              </button>
            )}
          </div>
          <div className="min-h-0 grow overflow-auto">
            {way === "picture" && <Picture steps={steps} shown={shown} inputs={look?.input.length ?? 0} />}
            {way === "outline" && <Outline steps={steps} shown={shown} />}
            {way === "text" && (
              <textarea
                aria-label={t("Text of the workflow")}
                className="h-full w-full resize-none bg-inset p-4 font-mono text-[12px] leading-[17px] outline-none"
                spellCheck={false}
                readOnly={!may}
                value={typed ?? look?.text ?? ""}
                onChange={(event) => {
                  setSaid("");
                  setDrawn(null);
                  setTyped(event.target.value);
                  setPen((old) => old ?? definition);
                }}
              />
            )}
          </div>
        </div>
        {node && look ? (
          <StepPane
            key={chosen}
            node={node}
            look={look}
            about={about}
            language={language}
            around={around}
            onChange={(step: Step) => setSteps(replaced(steps, node.path, step))}
            onRename={(next) => {
              setSteps(renamed(steps, node.path, next));
              choose([node.spot.path, node.spot.key, next].filter(Boolean).join("."));
            }}
            onRemove={remove}
            onMove={move}
            onInsert={(spot, after) => setInserting({ spot, after })}
          />
        ) : (
          look && (
            <Frame
              definition={definition}
              look={look}
              around={{ ...around, problems: look.problems.filter((one) => !one.step) }}
              onChange={change}
            />
          )
        )}
      </div>
      <Insert open={inserting !== null} onClose={() => setInserting(null)} onChoose={insert} />
      <PublishPanel
        runs={`workflow ${name}`}
        name={name}
        open={publishing}
        onClose={() => setPublishing(false)}
        onDone={onSaved}
      />
      <RunPanel
        open={running}
        name={name}
        definition={pen}
        inputs={look?.input ?? []}
        environment={environment}
        onClose={() => setRunning(false)}
        onRan={(done) => setDrawn(done)}
      />
    </div>
  );
}

function runBy(row: WorkflowRow | undefined): string {
  if (!row?.run_by.length) return t("no operation runs it yet");
  return t("run by {0}", row.run_by.map((one) => `${one.service}.${one.operation}`).join(", "));
}
