/**
 * The steps of a workflow as they are written, and what an editor does with them. A step is named by its path: the names from the
 * outermost step inwards, with the branch, lane or handler between (`look.place.gates`, `know.catch.NotFound.unknown`). Nothing is
 * changed in place.
 */
import { t } from "../../text";

export type Step = { [key: string]: unknown };
export type Steps = Record<string, Step>;

/** A block inside of a step: its key in paths, what people call it, and the condition of a branch. */
export interface Block {
  key: string;
  word: "do" | "branch" | "otherwise" | "lane" | "catch" | "always";
  name: string;
  test?: string;
  steps: Steps;
}

/** Where steps stand: in a block of a step, or at the top. */
export interface Spot {
  path: string;
  key: string;
}

export interface Node {
  path: string;
  name: string;
  step: Step;
  depth: number;
  spot: Spot;
  block?: Block;
}

export const TOP: Spot = { path: "", key: "" };
export const ACTIONS = [
  "call",
  "set",
  "when",
  "for_each",
  "repeat_while",
  "parallel",
  "attempt",
  "session",
  "reply",
  "fail",
  "note",
  "wait",
  "write_file",
  "read_file",
] as const;
export type Action = (typeof ACTIONS)[number];

export function actionOf(step: Step): Action {
  return ACTIONS.find((one) => one in step) ?? "note";
}

const some = (value: unknown) => (value ?? {}) as Record<string, { steps?: Steps; test?: string } | undefined>;

/** The blocks inside of a step, in the order in which they are written. */
export function blocks(step: Step): Block[] {
  const found: Block[] = [];
  const action = actionOf(step);
  if (action === "attempt") found.push({ key: "", word: "do", name: "", steps: (step.attempt ?? {}) as Steps });
  if (["for_each", "repeat_while", "session"].includes(action))
    found.push({ key: "", word: "do", name: "", steps: (step.steps ?? {}) as Steps });
  for (const [name, one] of Object.entries(some(step.when)))
    found.push({ key: name, word: "branch", name, test: String(one?.test ?? ""), steps: one?.steps ?? {} });
  if ("otherwise" in step)
    found.push({ key: "otherwise", word: "otherwise", name: "otherwise", steps: (step.otherwise ?? {}) as Steps });
  for (const [name, one] of Object.entries(some(step.parallel)))
    found.push({ key: name, word: "lane", name, steps: one?.steps ?? {} });
  for (const [name, one] of Object.entries(some(step.catch)))
    found.push({ key: `catch.${name}`, word: "catch", name, steps: one?.steps ?? {} });
  if ("always" in step)
    found.push({ key: "always", word: "always", name: "always", steps: (step.always ?? {}) as Steps });
  return found;
}

/** The step with other steps in one of its blocks. */
export function withBlock(step: Step, key: string, steps: Steps): Step {
  if (key === "") return { ...step, [actionOf(step) === "attempt" ? "attempt" : "steps"]: steps };
  if (key === "otherwise" || key === "always") return { ...step, [key]: steps };
  const [part, name] = key.startsWith("catch.")
    ? ["catch", key.slice(6)]
    : [actionOf(step) === "when" ? "when" : "parallel", key];
  const old = some(step[part]);
  return { ...step, [part]: { ...old, [name]: { ...old[name], steps } } };
}

export const inside = (path: string, key: string, name: string) => [path, key, name].filter(Boolean).join(".");

/** Every step, in the order of reading. */
export function flat(steps: Steps, spot: Spot = TOP, depth = 0, block?: Block): Node[] {
  return Object.entries(steps).flatMap(([name, step]) => {
    const path = inside(spot.path, spot.key, name);
    const one: Node = { path, name, step, depth, spot, ...(block ? { block } : {}) };
    return [
      one,
      ...blocks(step).flatMap((two) => flat(two.steps, { path, key: two.key }, depth + (two.key === "" ? 1 : 2), two)),
    ];
  });
}

/** The steps with something done to those of one block. */
export function inBlock(steps: Steps, spot: Spot, change: (steps: Steps) => Steps): Steps {
  if (spot.path === "") return change(steps);
  const host = flat(steps).find((one) => one.path === spot.path);
  if (!host) return steps;
  const block = blocks(host.step).find((one) => one.key === spot.key);
  const next = withBlock(host.step, spot.key, change(block?.steps ?? {}));
  return inBlock(steps, host.spot, (around) => ({ ...around, [host.name]: next }));
}

function edited(steps: Steps, path: string, change: (around: Steps, node: Node) => Steps): Steps {
  const node = flat(steps).find((one) => one.path === path);
  return node ? inBlock(steps, node.spot, (around) => change(around, node)) : steps;
}

export const replaced = (steps: Steps, path: string, step: Step): Steps =>
  edited(steps, path, (around, node) => ({ ...around, [node.name]: step }));

export const removed = (steps: Steps, path: string): Steps =>
  edited(steps, path, (around, node) =>
    Object.fromEntries(Object.entries(around).filter(([name]) => name !== node.name)),
  );

export const renamed = (steps: Steps, path: string, name: string): Steps =>
  edited(steps, path, (around, node) =>
    name in around
      ? around
      : Object.fromEntries(Object.entries(around).map(([old, step]) => [old === node.name ? name : old, step])),
  );

/** One place up or down among those beside it. */
export const moved = (steps: Steps, path: string, by: 1 | -1): Steps =>
  edited(steps, path, (around, node) => {
    const all = Object.entries(around);
    const from = all.findIndex(([name]) => name === node.name);
    const to = from + by;
    const [taken, other] = [all[from], all[to]];
    if (!taken || !other) return around;
    all[to] = taken;
    all[from] = other;
    return Object.fromEntries(all);
  });

/** A further step in a block: after one of its steps, or at its beginning. */
export const inserted = (steps: Steps, spot: Spot, after: string | null, name: string, step: Step): Steps =>
  inBlock(steps, spot, (around) => {
    const all = Object.entries(around);
    all.splice(after === null ? 0 : all.findIndex(([one]) => one === after) + 1, 0, [name, step]);
    return Object.fromEntries(all);
  });

/** A name that is free: the wish, or the wish with a number. */
export function freeName(steps: Steps, wish: string): string {
  const taken = new Set(flat(steps).map((one) => one.name));
  for (let number = 1; ; number++) {
    const name = number === 1 ? wish : `${wish}_${number}`;
    if (!taken.has(name)) return name;
  }
}

/** What a new step of an action begins with. */
export const FRESH: Record<Action, Step> = {
  call: { call: "" },
  set: { set: { value: "" } },
  when: { when: { yes: { test: "" } }, otherwise: {} },
  for_each: { for_each: "", item: "one" },
  repeat_while: { repeat_while: "", at_most: 10 },
  parallel: { parallel: { left: {}, right: {} } },
  attempt: { attempt: {}, catch: { anything: {} } },
  session: { session: "" },
  reply: { reply: {} },
  fail: { fail: "" },
  note: { note: "" },
  wait: { wait: "1" },
  write_file: { write_file: "", path: "", text: "" },
  read_file: { read_file: "", path: "" },
};

/** What a step does, in a few words. */
export function says(step: Step): string {
  const action = actionOf(step);
  const text = (key: string) => textOf(step[key]);
  switch (action) {
    case "call":
      return text("call") || "…";
    case "set":
      return Object.keys(step.set ?? {}).join(", ");
    case "when":
      return Object.keys(step.when ?? {}).join(", ");
    case "for_each":
      return `${text("for_each")}${step.at_once ? `, ${text("at_once")} at once` : ""}`;
    case "repeat_while":
      return text("repeat_while");
    case "parallel":
      return Object.keys(step.parallel ?? {}).join(", ");
    case "attempt":
      return step.catch ? t("catches {0}", Object.keys(step.catch).join(", ")) : t("and always something");
    case "reply":
      return Object.keys(step.reply ?? {}).join(", ");
    default:
      return text(action);
  }
}

/** A tree of a map with one of its lines changed; an empty line takes it out. */
export function withLine(tree: unknown, path: string, line: string): Record<string, unknown> {
  const [first = "", ...rest] = path.split(".");
  const old = (typeof tree === "object" && tree !== null ? tree : {}) as Record<string, unknown>;
  const next = { ...old };
  const value = rest.length ? withLine(old[first], rest.join("."), line) : line;
  if (value === "" || (typeof value === "object" && !Object.keys(value).length)) delete next[first];
  else next[first] = value;
  return next;
}

/** What a tree has at a path, as text: empty for nothing, `{…}` for a record of lines. */
export function lineAt(tree: unknown, path: string): string {
  const found = path
    .split(".")
    .reduce<unknown>(
      (at, name) => (typeof at === "object" && at ? (at as Record<string, unknown>)[name] : undefined),
      tree,
    );
  return typeof found === "object" && found !== null ? "{…}" : textOf(found);
}

/** A map as it is now: the parts were looked at a moment ago, their lines are those of the tree. */
export function linesNow<Part extends { path: string; line: string }>(parts: readonly Part[], tree: unknown): Part[] {
  return parts.map((one) => ({ ...one, line: lineAt(tree, one.path) }));
}

/** A map with every link that is proposed for a part without a line. */
export function withProposals(
  parts: readonly { path: string; line: string; proposal: string }[],
  tree: unknown,
): Record<string, unknown> {
  return linesNow(parts, tree)
    .filter((one) => one.proposal && !one.line)
    .reduce((next, one) => withLine(next, one.path, one.proposal), (tree ?? {}) as Record<string, unknown>);
}

/** The lines of a tree by their paths, and the tree of lines. */
export function lines(tree: unknown, at = ""): [string, string][] {
  return Object.entries((tree ?? {}) as Record<string, unknown>).flatMap(([name, value]) => {
    const path = at ? `${at}.${name}` : name;
    return typeof value === "object" && value !== null
      ? lines(value, path)
      : [[path, textOf(value)] as [string, string]];
  });
}

export function treeOf(all: readonly (readonly [string, string])[]): Record<string, unknown> {
  const tree: Record<string, unknown> = {};
  for (const [path, line] of all) {
    const names = path.split(".");
    const last = names.pop() ?? "";
    let at = tree;
    for (const name of names) {
      const next = typeof at[name] === "object" && at[name] !== null ? (at[name] as Record<string, unknown>) : {};
      at[name] = next;
      at = next;
    }
    at[last] = line;
  }
  return tree;
}

/** A value of a definition as a field shows it. */
export function textOf(value: unknown): string {
  if (typeof value === "string") return value;
  return value === undefined || value === null ? "" : JSON.stringify(value);
}
