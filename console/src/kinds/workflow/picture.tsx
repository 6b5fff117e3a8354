/** The steps as a picture that lays itself out: one below the other, branches and lanes beside each other, loops and catches as frames. */
import { Split, Undo2 } from "lucide-react";
import type { ReactNode } from "react";
import type { Span } from "../../api";
import { brief } from "../../formats";
import { Mark } from "../../parts/marks";
import { rich, t } from "../../text";
import { ActionIcon } from "./icons";
import { actionOf, blocks, inside, says, textOf, type Block, type Spot, type Step, type Steps } from "./tree";

const CHOSEN = "border-accent bg-accent text-onaccent";
const RINGED = "outline-2 outline-offset-1 outline-band";

export interface Shown {
  chosen: string;
  choose: (path: string) => void;
  wrong: ReadonlySet<string>;
  spans: ReadonlyMap<string, Span>;
  insert: (spot: Spot, after: string | null) => void;
}

export function Picture({ steps, shown, inputs }: { steps: Steps; shown: Shown; inputs: number }) {
  return (
    <div className="w-max min-w-full px-5 py-4">
      <div className="flex h-9 w-56 items-center justify-center gap-2 rounded-full border border-edge bg-raised text-[13px]">
        <b className="font-semibold">{t("Request")}</b>
        <span className="text-xs text-ink2">{inputs === 1 ? t("1 input") : t("{0} inputs", inputs)}</span>
      </div>
      <Column steps={steps} spot={{ path: "", key: "" }} shown={shown} />
    </div>
  );
}

function Wire({ onInsert }: { onInsert?: () => void }) {
  return (
    <div className="group relative h-3 w-56">
      <span className="absolute left-[25px] h-full border-l border-edge" />
      {onInsert && (
        <button
          type="button"
          tabIndex={-1}
          aria-label={t("Insert a step here")}
          onClick={onInsert}
          className={`absolute -top-1.5 left-[13px] hidden size-6 items-center justify-center rounded-full border
            border-edge bg-raised text-accent group-hover:flex`}
        >
          +
        </button>
      )}
    </div>
  );
}

function Column({ steps, spot, shown }: { steps: Steps; spot: Spot; shown: Shown }) {
  const names = Object.keys(steps);
  const last = names.at(-1);
  const ends = last !== undefined && ENDS.has(actionOf(steps[last]!)) && steps[last]!.only_if === undefined;
  return (
    <div>
      {names.map((name, index) => (
        <div key={name}>
          <Wire onInsert={() => shown.insert(spot, index ? (names[index - 1] ?? null) : null)} />
          <Drawn name={name} step={steps[name]!} path={inside(spot.path, spot.key, name)} shown={shown} />
        </div>
      ))}
      {!ends && <Wire onInsert={() => shown.insert(spot, last ?? null)} />}
    </div>
  );
}

const ENDS: ReadonlySet<string> = new Set(["reply", "fail"]);

/** A handler that only fails in another way is drawn at the side, not as a block of its own. */
function onlyFails(block: Block): [string, Step] | undefined {
  const all = Object.entries(block.steps);
  const [first] = all;
  return block.word === "catch" && all.length === 1 && first && actionOf(first[1]) === "fail" ? first : undefined;
}

function Drawn({ name, step, path, shown }: { name: string; step: Step; path: string; shown: Shown }) {
  const all = blocks(step);
  const main = all.filter((one) => one.word === "do");
  const beside = all.filter((one) => ["branch", "lane", "otherwise"].includes(one.word));
  const small = all.filter((one) => onlyFails(one));
  const aside = all.filter((one) => ["catch", "always"].includes(one.word) && !onlyFails(one));
  const box = (
    <Box name={name} step={step} path={path} shown={shown}>
      {small.map((one) => {
        const [inner, fails] = onlyFails(one)!;
        const at = inside(path, one.key, inner);
        return (
          <Tag key={one.key} path={at} shown={shown} word={wordOf(one)}>
            {textOf(fails.fail)}
          </Tag>
        );
      })}
    </Box>
  );
  if (!main.length && !beside.length && !aside.length) return box;
  return (
    <div>
      {box}
      <div className="flex items-start gap-3">
        {main.map((one) => (
          <div key={one.key} className="ml-3 border-l border-dashed border-edge pl-3">
            <Column steps={one.steps} spot={{ path, key: one.key }} shown={shown} />
          </div>
        ))}
        {beside.map((one, index) => (
          <Labelled key={one.key} block={one} first={!main.length && !index}>
            <Column steps={one.steps} spot={{ path, key: one.key }} shown={shown} />
          </Labelled>
        ))}
        {aside.length > 0 && (
          // One below the other: which of them is taken is no matter of order, and side by side they leave the page.
          <div>
            {aside.map((one) => (
              <Labelled key={one.key} block={one} first={false}>
                <Column steps={one.steps} spot={{ path, key: one.key }} shown={shown} />
              </Labelled>
            ))}
          </div>
        )}
      </div>
    </div>
  );
}

function Labelled({ block, first, children }: { block: Block; first: boolean; children: ReactNode }) {
  return (
    <div className={first ? "" : "border-l border-line2 pl-3"}>
      <p className={`max-w-56 truncate pt-2 text-xs ${block.word === "catch" ? "text-bad" : "text-ink2"}`}>
        {wordOf(block)}
      </p>
      {block.test !== undefined && (
        <p className="max-w-56 truncate font-mono text-[12px] leading-4 text-ink3" title={block.test}>
          {block.test || "…"}
        </p>
      )}
      {children}
    </div>
  );
}

/** What ends it, at the side. */
function Tag({ path, shown, word, children }: { path: string; shown: Shown; word: ReactNode; children: ReactNode }) {
  const chosen = shown.chosen === path;
  return (
    <span className="flex items-center">
      <span className="flex w-24 flex-col items-center">
        <span className="max-w-24 truncate px-1 text-xs leading-4 text-ink2">{word}</span>
        <span className="w-full border-t border-dashed border-bad" />
      </span>
      <button
        type="button"
        data-step={path}
        aria-pressed={chosen}
        onClick={() => shown.choose(path)}
        className={`flex h-7 items-center gap-1.5 rounded-[3px] border px-2 text-[12.5px] whitespace-nowrap
          ${chosen ? `${CHOSEN} ${RINGED}` : "border-bad bg-raised text-bad"}`}
      >
        <Mark name="fault" />
        {children}
        {shown.wrong.has(path) && <Mark name="risk" label={t("has mistakes")} />}
        {shown.spans.get(path) && <Took span={shown.spans.get(path)!} chosen={chosen} />}
      </button>
    </span>
  );
}

export function wordOf(block: Block): ReactNode {
  if (block.word === "catch") return block.name === "anything" ? t("on anything else") : rich("on {0}", block.name);
  if (block.word === "always") return t("always");
  if (block.word === "otherwise") return t("otherwise");
  return block.name;
}

function Box({
  name,
  step,
  path,
  shown,
  children,
}: {
  name: string;
  step: Step;
  path: string;
  shown: Shown;
  children?: ReactNode;
}) {
  const action = actionOf(step);
  const chosen = shown.chosen === path;
  const span = shown.spans.get(path);
  const only = step.only_if === undefined ? "" : textOf(step.only_if);
  const undo = (step.undo as { call?: string } | undefined)?.call;
  const guard = action === "fail" && only !== "";
  const round = ENDS.has(action) && !guard;
  const colour = chosen
    ? CHOSEN
    : round && action === "fail"
      ? "border-bad bg-raised text-bad"
      : "border-edge bg-raised";
  return (
    <div className="flex items-center">
      <button
        type="button"
        data-step={path}
        aria-pressed={chosen}
        onClick={() => shown.choose(path)}
        title={only ? t("only if {0}", only) : undefined}
        className={`flex h-10 w-56 shrink-0 items-center gap-2.5 border px-2.5 text-left
          ${round ? "rounded-full" : "rounded-[3px]"} ${colour}
          ${only && !guard && !chosen ? "border-dashed" : ""} ${chosen ? RINGED : ""}`}
      >
        {guard ? <Split size={16} strokeWidth={1.75} className="shrink-0" aria-hidden /> : <ActionIcon step={step} />}
        <span className="min-w-0 grow">
          <b className="block truncate text-[13px] leading-4 font-semibold">{name}</b>
          <span className={`block truncate text-xs leading-4 ${chosen ? "" : "text-ink2"}`}>
            {guard ? rich("if {0}", only) : says(step)}
          </span>
        </span>
        {shown.wrong.has(path) && <Mark name="risk" label={t("has mistakes")} />}
        {span && <Took span={span} chosen={chosen} />}
      </button>
      {guard && (
        <span className="flex items-center">
          <span className="flex w-12 flex-col items-center">
            <span className="text-xs leading-4 text-ink2">{t("yes")}</span>
            <span className="w-full border-t border-dashed border-bad" />
          </span>
          <span className="flex h-7 items-center gap-1.5 rounded-[3px] border border-bad px-2 text-[12.5px] whitespace-nowrap text-bad">
            <Mark name="fault" />
            {textOf(step.fail)}
          </span>
        </span>
      )}
      {only && !guard && <span className="ml-2 max-w-36 truncate text-xs text-ink2">{rich("if {0}", only)}</span>}
      {undo && (
        <span className="ml-2 flex items-center gap-1 rounded-[3px] border border-warn px-1.5 py-0.5 text-xs whitespace-nowrap text-warn">
          <Undo2 size={13} strokeWidth={1.75} aria-hidden />
          {undo}
        </span>
      )}
      {children}
    </div>
  );
}

export function Took({ span, chosen = false }: { span: Span; chosen?: boolean }) {
  return (
    <span
      className={`text-xs whitespace-nowrap ${chosen ? "" : span.failed ? "text-bad" : "text-ink3"}`}
      title={span.words || undefined}
    >
      {span.failed ? "✕ " : ""}
      {span.micros === null ? t("cut off") : brief(span.micros)}
    </span>
  );
}
