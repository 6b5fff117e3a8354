/** What the page of copybooks works with. */
import type { CopybookLayout, CopybookLayouts, ItemRow, KeptCopybook, Problem } from "../../api";
import { fromBase64Bytes, type Files } from "../../files";

export interface Copybook {
  name: string;
  text: string;
  source_format: "" | "fixed" | "free";
  members: Record<string, string>;
  replacing: Record<string, string>;
}

/** How the record is held, as far as it is set here. */
export interface Held {
  code_page: string;
}

export const CODE_PAGES = ["ascii", "cp037", "cp273", "cp277", "cp278", "cp280", "cp284", "cp285", "cp297", "cp500"];

/** What is chosen as one: items with a PICTURE, and tables with all that is in them. */
export function choosable(items: readonly ItemRow[]): Set<string> {
  const found = new Set<string>();
  const tables: string[] = [];
  for (const one of items) {
    const inside = tables.some((path) => one.path.startsWith(`${path}.`));
    if (one.occurs) tables.push(one.path);
    if (!inside && one.name !== "FILLER" && (one.occurs || one.kind !== "group")) found.add(one.path);
  }
  return found;
}

/** How deep each item stands, by level numbers. */
export function depths(items: readonly ItemRow[]): number[] {
  const stack: number[] = [];
  return items.map((one) => {
    while (stack.length && stack[stack.length - 1]! >= one.level) stack.pop();
    stack.push(one.level);
    return stack.length - 1;
  });
}

/** Items that go in and that come out, by their paths. */
export interface Sides {
  inputs: ReadonlySet<string>;
  outputs: ReadonlySet<string>;
}

export type Use = "both" | "in" | "out";

/** One record that is passed to the program, while it is worked on. */
export interface AreaWork {
  name: string;
  use: Use;
  copybook: Copybook;
  /** The name of the kept copybook that it is; "" for a new one. */
  kept: string;
  /** What is typed of its replacements. */
  typed: string;
  /** Which record of the copybook; the first where nothing is said. */
  record: string;
  /** What is ticked; what is proposed where nothing was touched. */
  sides: Sides | null;
  found: CopybookLayouts | null;
  /** Of which copybook it was asked what it lays out. */
  asked: Copybook | null;
  problems: Problem[];
}

export const EMPTY: Copybook = { name: "", text: "", source_format: "", members: {}, replacing: {} };

export function newArea(name: string, use: Use, kept?: KeptCopybook): AreaWork {
  return { name, use, record: "", sides: null, found: null, asked: null, problems: [], ...laidOutBy(kept) };
}

/** The part of an area that says what lays it out: a kept copybook, or an empty new one. */
export function laidOutBy(kept?: KeptCopybook): Pick<AreaWork, "copybook" | "kept" | "typed"> {
  const copybook = kept ? plain(kept) : EMPTY;
  const typed = Object.entries(copybook.replacing).map(([old, next]) => `${old}=${next}`);
  return { copybook, kept: kept?.name ?? "", typed: typed.join(", ") };
}

export function plain({ name, text, source_format, members, replacing }: KeptCopybook): Copybook {
  return { name, text, source_format: source_format as Copybook["source_format"], members, replacing };
}

export function layoutOf({ copybook, found, record }: AreaWork): CopybookLayout | undefined {
  if (!copybook.text.trim()) return undefined;
  return found?.records.find((one) => one.record === record) ?? found?.records[0];
}

const NOTHING: ReadonlySet<string> = new Set();

/** What goes in and comes out of an area; nothing on a side that it is not used for. */
export function sidesOf(area: AreaWork): Sides {
  const proposal = area.found?.proposals.find((one) => one.record === layoutOf(area)?.record);
  const sides = area.sides ?? { inputs: new Set(proposal?.inputs), outputs: new Set(proposal?.outputs) };
  return {
    inputs: area.use === "out" ? NOTHING : sides.inputs,
    outputs: area.use === "in" ? NOTHING : sides.outputs,
  };
}

/** Another area beside those that there are. Where there was one, the two are taken for what is asked and what is answered. */
export function withAnother(areas: readonly AreaWork[]): AreaWork[] {
  const [only] = areas;
  if (only && areas.length === 1 && only.use === "both" && only.name === "area")
    return [{ ...only, name: "request", use: "in" }, newArea("reply", "out")];
  let number = areas.length + 1;
  while (areas.some((one) => one.name === `area-${number}`)) number += 1;
  return [...areas, newArea(`area-${number}`, "both")];
}

/** A copybook of files that were handed in: the one that copies the others; or, where one is there, those that it copies beside it. */
export function dropped(copybook: Copybook, files: Files): Copybook | undefined {
  const texts = Object.entries(files).map(([path, content]) => [bare(path), decoded(content)] as const);
  const copies = ([, text]: readonly [string, string]) => Number(/COPY\s/i.test(text));
  const [first, ...others] = copybook.text
    ? [[copybook.name, copybook.text] as const, ...texts]
    : texts.sort((one, other) => copies(other) - copies(one));
  if (!first) return undefined;
  return {
    ...copybook,
    name: copybook.name || first[0].toLowerCase(),
    text: first[1],
    members: { ...copybook.members, ...Object.fromEntries(others.map(([name, text]) => [name.toUpperCase(), text])) },
  };
}

/** A name of a file without its folders and its ending. */
function bare(path: string): string {
  return (path.split("/").pop() ?? path).replace(/\.[^.]*$/, "");
}

/** Copybooks of old machines are seldom UTF-8 in their comments. */
function decoded(content: string): string {
  const bytes = fromBase64Bytes(content);
  try {
    return new TextDecoder("utf-8", { fatal: true }).decode(bytes);
  } catch {
    return new TextDecoder("latin1").decode(bytes);
  }
}

/** OLD=NEW, OLD=NEW as it is typed; pseudo-text stands between two equals signs: ==:TAG:===LOCK. */
export function replacings(text: string): Record<string, string> {
  const found: Record<string, string> = {};
  for (const one of text.split(",")) {
    const pair = /^\s*(==.*?==|[^=]+)=(.*?)\s*$/.exec(one);
    const old = pair?.[1]?.trim();
    if (old) found[old] = pair![2]!.trim();
  }
  return found;
}

/** What the API takes of a copybook that it does not name. */
export function said({ text, source_format, members, replacing }: Copybook) {
  return { text, source_format, members, replacing };
}
