/** What the page of copybooks works with. */
import type { ItemRow } from "../../api";

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

/** What the API takes of a copybook that it does not name. */
export function said({ text, source_format, members, replacing }: Copybook) {
  return { text, source_format, members, replacing };
}
