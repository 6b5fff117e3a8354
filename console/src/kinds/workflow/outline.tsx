/** The steps by nesting, a line each. */
import { Mark } from "../../parts/marks";
import { t } from "../../text";
import { ActionIcon, WORDS } from "./icons";
import { Took, wordOf, type Shown } from "./picture";
import { actionOf, flat, says, textOf, type Steps } from "./tree";

export function Outline({ steps, shown }: { steps: Steps; shown: Shown }) {
  const nodes = flat(steps);
  return (
    <ol className="py-1" aria-label={t("Steps")}>
      {nodes.map((one, index) => {
        const before = nodes[index - 1];
        const opens = one.block && one.block.word !== "do" && before && before.block !== one.block;
        const first =
          one.block && (!before || before.block?.key !== one.block.key || before.spot.path !== one.spot.path);
        return (
          <li key={one.path}>
            {opens && first && (
              <p className="truncate text-xs text-ink2" style={{ paddingLeft: 20 + (one.depth - 1) * 16 }}>
                {wordOf(one.block!)}
                {one.block!.test && <span className="ml-2 font-mono text-[11px] text-ink3">{one.block!.test}</span>}
              </p>
            )}
            <button
              type="button"
              data-step={one.path}
              aria-pressed={shown.chosen === one.path}
              onClick={() => shown.choose(one.path)}
              className={`flex h-7 w-full items-center gap-2 pr-4 text-left ${shown.chosen === one.path ? "chosen" : ""}`}
              style={{ paddingLeft: 20 + one.depth * 16 }}
            >
              <ActionIcon step={one.step} className={actionOf(one.step) === "fail" ? "" : "text-ink2"} />
              <b className="font-semibold whitespace-nowrap">{one.name}</b>
              <span className="grow truncate text-xs text-ink2">
                {WORDS[actionOf(one.step)]} {says(one.step)}
                {one.step.only_if !== undefined && <> · {t("only if {0}", textOf(one.step.only_if))}</>}
              </span>
              {shown.wrong.has(one.path) && <Mark name="risk" label={t("has mistakes")} />}
              {shown.spans.has(one.path) && <Took span={shown.spans.get(one.path)!} />}
            </button>
          </li>
        );
      })}
    </ol>
  );
}
