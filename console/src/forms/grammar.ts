/** The grammar of definitions as the service tells it, and what forms hold: values by the names of fields. */
import { createContext, useContext } from "react";
import type { FormField } from "../api";

export type Values = Record<string, unknown>;

export interface Grammar {
  kinds: Record<string, string>;
  folders: Record<string, string>;
  groups: Record<string, FormField[]>;
  names: Record<string, string[]>;
  engines: Record<string, string>;
  /** The values of the whole definition: fields may name its other parts. */
  whole: Values;
  may: boolean;
}

export const GrammarContext = createContext<Grammar>({
  kinds: {},
  folders: {},
  groups: {},
  names: {},
  engines: {},
  whole: {},
  may: false,
});
export const useGrammar = () => useContext(GrammarContext);

export const isValues = (value: unknown): value is Values =>
  typeof value === "object" && value !== null && !Array.isArray(value);

/** Something as a line of text, where it is a simple value. */
export const asLine = (value: unknown): string =>
  typeof value === "string" ? value : typeof value === "number" || typeof value === "boolean" ? String(value) : "";

/** A field's name for people: its key in words. */
export const words = (name: string) => name.replaceAll("_", " ");

/** Whether a field means something beside these values: of settings that some engines bring along, only those of the engine in question. */
export function means(field: FormField, values: Values, engine: string): boolean {
  if (!field.engines.length || field.name in values) return true;
  const asked = engine || asLine(values.engine);
  return !asked || field.engines.includes(asked);
}

/** What may be proposed for a field: its choices, names of definitions, or of the parts of this one. */
export function proposed(field: FormField, grammar: Grammar): string[] {
  const own = field.refers
    .filter((one) => one.startsWith("."))
    .flatMap((one) => {
      const part = grammar.whole[one.slice(1)];
      return isValues(part) ? Object.keys(part) : [];
    });
  const named = field.refers.filter((one) => !one.startsWith(".")).flatMap((one) => grammar.names[one] ?? []);
  return [...new Set([...field.choices, ...own, ...named])];
}

/** Values with one of them set; what is empty is left out. */
export function withValue(values: Values, name: string, value: unknown): Values {
  const next = { ...values };
  if (value === undefined || value === "" || (Array.isArray(value) && !value.length)) delete next[name];
  else next[name] = value;
  return next;
}

/** Values with a key renamed in its place. */
export function renamed(values: Values, from: string, to: string): Values {
  return Object.fromEntries(Object.entries(values).map(([key, value]) => [key === from ? to : key, value]));
}

/** Values with the entry at an index moved. */
export function moved(values: Values, index: number, by: number): Values {
  const entries = Object.entries(values);
  const [one] = entries.splice(index, 1);
  if (one) entries.splice(index + by, 0, one);
  return Object.fromEntries(entries);
}

/** A name that is not taken: `name`, `name2`. */
export function free(values: Values, name: string): string {
  let found = name;
  for (let count = 2; found in values; count += 1) found = `${name}${count}`;
  return found;
}
