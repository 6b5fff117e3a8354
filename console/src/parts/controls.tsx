/** Small parts that every page uses. */
import { Check, ChevronDown, Copy } from "lucide-react";
import { Select as RSelect, ToggleGroup, Tooltip } from "radix-ui";
import { useState, type ReactNode } from "react";
import type { Problem } from "../api";
import { Mark } from "./marks";
import { rich, t } from "../text";

export function Hint({ text, children }: { text: string; children: ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content sideOffset={4} className="pop z-50 max-w-80 px-2 py-1 text-xs text-ink">
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

export function CopyButton({ text, what }: { text: string; what: string }) {
  const [done, setDone] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(text);
    setDone(true);
    setTimeout(() => setDone(false), 1500);
  };
  return (
    <Hint text={done ? t("Copied") : t("Copy {0}", what)}>
      <button
        type="button"
        className="ibtn"
        aria-label={done ? t("Copied {0}", what) : t("Copy {0}", what)}
        onClick={() => void copy()}
      >
        {done ? <Check size={16} strokeWidth={1.75} className="text-ok" /> : <Copy size={16} strokeWidth={1.75} />}
      </button>
    </Hint>
  );
}

export function Segments<V extends string>({
  value,
  options,
  onChange,
  label,
}: {
  value: V;
  options: { value: V; word: ReactNode }[];
  onChange: (value: V) => void;
  label: string;
}) {
  return (
    <ToggleGroup.Root
      type="single"
      value={value}
      onValueChange={(next) => {
        if (next) onChange(next as V);
      }}
      className="seg"
      aria-label={label}
    >
      {options.map((one) => (
        <ToggleGroup.Item key={one.value} value={one.value} className="segb">
          {one.word}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}

const NOTHING = "\u0000";
const ITEM = "flex h-7 cursor-pointer items-center rounded-[3px] px-2 outline-none data-highlighted:bg-wash";

export function Select<V extends string>({
  value,
  options,
  onChange,
  label,
  id,
  mono = false,
  placeholder = "",
}: {
  value: V;
  options: { value: V; word: ReactNode }[];
  onChange: (value: V) => void;
  label: string;
  id?: string;
  mono?: boolean;
  placeholder?: string;
}) {
  return (
    <RSelect.Root value={value || NOTHING} onValueChange={(next) => onChange((next === NOTHING ? "" : next) as V)}>
      <RSelect.Trigger id={id} className={`sel ${mono ? "font-mono text-[12.5px]" : ""}`} aria-label={label}>
        <span className="truncate">
          <RSelect.Value placeholder={placeholder} />
        </span>
        <ChevronDown size={16} strokeWidth={1.75} className="shrink-0 text-ink3" />
      </RSelect.Trigger>
      <RSelect.Portal>
        <RSelect.Content
          position="popper"
          sideOffset={2}
          className="pop z-40 max-h-80 min-w-(--radix-select-trigger-width) overflow-auto p-1"
        >
          <RSelect.Viewport>
            {options.map((one) => (
              <RSelect.Item
                key={one.value}
                value={one.value || NOTHING}
                className={`${ITEM} ${mono ? "font-mono text-[12.5px]" : "text-sm"}`}
              >
                <RSelect.ItemText>{one.word}</RSelect.ItemText>
              </RSelect.Item>
            ))}
          </RSelect.Viewport>
        </RSelect.Content>
      </RSelect.Portal>
    </RSelect.Root>
  );
}

/** With the mark `risk` they are no failures. */
export function Problems({ problems, mark = "fault" }: { problems: Problem[]; mark?: "fault" | "risk" }) {
  return (
    <div role="alert" className="flex flex-col gap-2">
      {problems.map((one, index) => (
        <div key={index} className="flex gap-2">
          <Mark name={mark} className="mt-0.5" />
          <div className="min-w-0 text-sm">
            <p className={`font-semibold ${mark === "fault" ? "text-bad" : ""}`}>{one.message}</p>
            {(one.place || one.expected || one.found) && (
              <p className="text-ink2 break-words">
                {one.place && (
                  <>
                    {rich(
                      "at {0}{1}",
                      <span className="font-mono text-[12.5px]">{one.place}</span>,
                      (one.expected || one.found) && ": ",
                    )}
                  </>
                )}
                {one.expected && <>{rich("expected {0}", one.expected)}</>}
                {one.expected && one.found && ", "}
                {one.found && <>{rich("found {0}", one.found)}</>}
              </p>
            )}
            {one.inner && <p className="font-mono text-[12.5px] break-words text-ink2">{one.inner}</p>}
            {one.mend && <p className="text-ink2">{one.mend}</p>}
          </div>
        </div>
      ))}
    </div>
  );
}

/** In the place of a page whose content could not be loaded. */
export function NotLoaded({ error }: { error: { problems: Problem[] } }) {
  return (
    <div className="p-5">
      <Problems problems={error.problems} />
    </div>
  );
}

/** The head of a column of buttons: said to who listens, not shown. */
export function ActsHead() {
  return (
    <th scope="col">
      <span className="sr-only">{t("Acts")}</span>
    </th>
  );
}
