/** A map side by side: what is known on the left, what is to be filled on the right, and a line between where one is the other. */
import { useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import { ask, type FilledPart, type Tried } from "../../api";
import { Mark } from "../../parts/marks";
import { rich, t } from "../../text";
import { Expression, short, Wrong, type Around } from "./fields";
import { linesNow, textOf, withLine, withProposals } from "./tree";

export function Filling({
  title,
  part,
  parts: looked,
  tree,
  onChange,
  around,
}: {
  title: string;
  part: string;
  parts: readonly FilledPart[];
  tree: Record<string, unknown>;
  onChange: (tree: Record<string, unknown>) => void;
  around: Around;
}) {
  const [source, setSource] = useState("");
  const box = useRef<HTMLDivElement>(null);
  const [lines, setLines] = useState<{ from: number; to: number; chosen: boolean }[]>([]);
  // Typed a key later than looked at: a field that showed the line of the look would lose the key.
  const parts = useMemo(() => linesNow(looked, tree), [looked, tree]);
  const used = new Set(parts.map((one) => one.line));
  const offered = new Set(parts.flatMap((one) => one.fits.slice(0, 3)));
  const known = around.known.filter((one) => !one.path.includes(".") || used.has(one.path) || offered.has(one.path));
  const heads = new Set(parts.map((one) => one.path.split(".")[0]));
  const head = heads.size === 1 && parts.every((one) => one.path.includes(".")) ? [...heads][0] : "";
  const proposals = parts.filter((one) => one.proposal && !one.line);
  const lacking = parts.filter((one) => one.required && !one.line);

  useLayoutEffect(() => {
    const root = box.current;
    if (!root) return;
    const top = root.getBoundingClientRect().top;
    const middle = (name: string, side: string) => {
      const found = root.querySelector(`[data-${side}="${CSS.escape(name)}"]`)?.getBoundingClientRect();
      return found ? found.top + found.height / 2 - top : undefined;
    };
    setLines(
      parts.flatMap((one) => {
        const from = middle(one.line, "source");
        const to = middle(one.path, "target");
        return from !== undefined && to !== undefined ? [{ from, to, chosen: one.line === source }] : [];
      }),
    );
  }, [parts, source, known.length]);

  return (
    <section aria-label={title} className="mb-3">
      <div className="mb-1.5 flex items-center gap-2">
        <h3 className="text-[13px] font-semibold">{title}</h3>
        <span className="flex items-center gap-1 text-xs text-ink2">
          <Mark name={lacking.length ? "risk" : "serving"} />
          {lacking.length
            ? t("{0} required without a value", lacking.length)
            : parts.length
              ? t("all that is required is filled")
              : t("nothing to fill")}
        </span>
        {around.may && proposals.length > 0 && (
          <button type="button" className="btn ml-auto" onClick={() => onChange(withProposals(parts, tree))}>
            {t("Suggest {0}", proposals.length === 1 ? t("1 link") : t("{0} links", proposals.length))}
          </button>
        )}
      </div>
      <div ref={box} className="relative grid grid-cols-[minmax(0,9fr)_36px_minmax(0,11fr)]">
        <ul className="self-start border border-line2" aria-label={t("Values known before")}>
          {known.map((one) => (
            <li key={one.path} className="border-b border-line last:border-b-0">
              <button
                type="button"
                data-source={one.path}
                aria-pressed={source === one.path}
                onClick={() => setSource(source === one.path ? "" : one.path)}
                title={one.value === undefined ? one.type : `${one.type}: ${short(one.value)}`}
                className={`flex h-7 w-full items-center gap-2 px-2 text-left ${source === one.path ? "bg-wash" : ""}`}
              >
                <span
                  className={`truncate font-mono text-[12px] ${one.path.includes(".") ? "" : "font-semibold"}`}
                  style={{ paddingLeft: one.path.includes(".") ? 10 : 0 }}
                >
                  {one.path.includes(".") ? one.path.slice(one.path.indexOf(".") + 1) : one.path}
                </span>
                <span className="ml-auto max-w-[45%] shrink-0 truncate text-xs text-ink3">
                  {one.value === undefined ? one.type : short(one.value)}
                </span>
              </button>
            </li>
          ))}
        </ul>
        <svg className="pointer-events-none h-full w-full" aria-hidden>
          {lines.map((one, index) => (
            <path
              key={index}
              d={`M0 ${one.from} C 18 ${one.from}, 18 ${one.to}, 36 ${one.to}`}
              fill="none"
              stroke={one.chosen ? "var(--band)" : "var(--post)"}
              strokeWidth={1.5}
            />
          ))}
        </svg>
        <ul className="self-start border border-line2">
          {head && (
            <li className="flex h-7 items-center border-b border-line px-2 font-mono text-[12px] font-semibold">
              {head}
            </li>
          )}
          {parts.map((one) => (
            <li
              key={one.path}
              data-target={one.path}
              className={`border-b border-line px-2 py-1 last:border-b-0 ${source && one.fits.includes(source) ? "bg-wash" : ""}`}
            >
              <button
                type="button"
                className="flex w-full min-w-0 items-baseline gap-2 text-left"
                disabled={!source || !around.may}
                title={source ? t("Put {0} here", source) : undefined}
                onClick={() => source && onChange(withLine(tree, one.path, source))}
              >
                <span className="truncate font-mono text-[12px] font-semibold" title={one.path}>
                  {head ? one.path.slice(head.length + 1) : one.path}
                  {one.list && "[]"}
                </span>
                <span className="ml-auto truncate text-xs text-ink3">
                  {one.required ? rich("{0}, required", one.type) : one.type}
                </span>
              </button>
              {one.line === "{…}" ? (
                <Items part={part} one={one} tree={tree} onChange={onChange} around={around} />
              ) : (
                <Expression
                  bare
                  label={t("{0} is filled with", one.path)}
                  value={one.line}
                  fits={one.fits}
                  around={around}
                  part={`${part}.${one.path}`}
                  placeholder={one.proposal ? t("like {0}", one.proposal) : ""}
                  onChange={(line) => onChange(withLine(tree, one.path, line))}
                />
              )}
            </li>
          ))}
          {!parts.length && <li className="px-2 py-1.5 text-xs text-ink2">{t("Nothing is taken here.")}</li>}
        </ul>
      </div>
      <Wrong problems={around.problems.filter((one) => one.part === part)} part={part} />
      <Whole part={part} around={around} />
    </section>
  );
}

/** A list that is made item by item. */
function Items({
  part,
  one,
  tree,
  onChange,
  around,
}: {
  part: string;
  one: FilledPart;
  tree: Record<string, unknown>;
  onChange: (tree: Record<string, unknown>) => void;
  around: Around;
}) {
  const at = one.path.split(".").reduce<unknown>((value, step) => (value as Record<string, unknown>)?.[step], tree);
  const items = (at ?? {}) as Record<string, unknown>;
  const put = (change: Record<string, unknown>) => {
    const next = Object.fromEntries(Object.entries({ ...items, ...change }).filter(([, value]) => value !== ""));
    onChange(withTree(tree, one.path, next));
  };
  const give = items.give;
  return (
    <div className="text-xs">
      <div className="grid grid-cols-[minmax(0,1fr)_72px] gap-1">
        <Expression
          bare
          label={t("for each")}
          value={textOf(items.for_each)}
          around={around}
          part={`${part}.${one.path}.for_each`}
          onChange={(for_each) => put({ for_each })}
        />
        <input
          className="field font-mono text-[12.5px]"
          aria-label={t("item")}
          value={textOf(items.item)}
          readOnly={!around.may}
          onChange={(event) => put({ item: event.target.value })}
        />
      </div>
      {typeof give === "object" && give !== null
        ? Object.entries(give as Record<string, unknown>).map(([name, value]) => (
            <div key={name} className="mt-1 grid grid-cols-[88px_minmax(0,1fr)] items-center gap-1">
              <span className="truncate font-mono text-[12px]">{name}</span>
              <Expression
                bare
                label={name}
                value={String(value)}
                around={around}
                part={`${part}.${one.path}.give.${name}`}
                onChange={(line) => put({ give: { ...give, [name]: line } })}
              />
            </div>
          ))
        : null}
    </div>
  );
}

function withTree(tree: Record<string, unknown>, path: string, value: unknown): Record<string, unknown> {
  const [first = "", ...rest] = path.split(".");
  return {
    ...tree,
    [first]: rest.length ? withTree((tree[first] ?? {}) as Record<string, unknown>, rest.join("."), value) : value,
  };
}

/** What the whole map gives for the sample. */
function Whole({ part, around }: { part: string; around: Around }) {
  const [tried, setTried] = useState<Tried | null>(null);
  const { workflow, definition, step, call, may } = around;
  useEffect(() => {
    if (!may) return;
    let gone = false;
    const timer = setTimeout(() => {
      ask<Tried>("POST", `/workflows/${encodeURIComponent(workflow)}/try`, { definition, step, part, call }).then(
        (found) => !gone && setTried(found),
        () => !gone && setTried(null),
      );
    }, 500);
    return () => {
      gone = true;
      clearTimeout(timer);
    };
  }, [workflow, definition, step, part, call, may]);
  if (!tried || tried.problems.length) return null;
  return (
    <details className="mt-1.5">
      <summary className="cursor-pointer text-xs text-ink2">
        {call ? t("What it gives for the values of that call") : t("What it gives for the sample")}
      </summary>
      <pre className="mt-1 max-h-48 overflow-auto bg-inset p-2 font-mono text-[12px]">
        {JSON.stringify(tried.value, null, 1)}
      </pre>
    </details>
  );
}
