/// <reference types="vite/client" />
/**
 * The words of the console. Code says them in English; a translation is a file `words/<language>.json` from those texts to its own, and
 * `words/messages.json` lists all that there are (`npm run words` makes it, the tests compare it). `{0}`, `{1}` stand for what is put in,
 * in whatever order a language wants it. Where a noun is counted, a translation may have one form for each plural rule of the language.
 */
import { createElement, Fragment, type ReactNode } from "react";

type Forms = Partial<Record<Intl.LDMLPluralRule, string>>;
export type Catalogue = Record<string, string | Forms>;

export const LANGUAGE = typeof document === "undefined" ? "en-GB" : document.documentElement.lang || "en-GB";
const rules = new Intl.PluralRules(LANGUAGE);
const translations = import.meta.glob<Catalogue>(["./words/*.json", "!./words/messages.json"], {
  eager: true,
  import: "default",
});
let catalogue = translations[`./words/${LANGUAGE}.json`] ?? {};

/** Speak with another catalogue, for tests; answers the one before. */
export function speak(next: Catalogue): Catalogue {
  const before = catalogue;
  catalogue = next;
  return before;
}

function translated(message: string, form: Intl.LDMLPluralRule = "other"): string {
  const found = catalogue[message];
  return (typeof found === "object" ? (found[form] ?? found.other) : found) ?? message;
}

/** A text with what is put in. */
export function t(message: string, ...values: (string | number)[]): string {
  return translated(message).replace(/\{(\d+)\}/g, (_, index: string) => String(values[Number(index)] ?? ""));
}

/** The same where what is put in is drawn. */
export function rich(message: string, ...values: ReactNode[]): ReactNode {
  const pieces = translated(message).split(/\{(\d+)\}/);
  return createElement(Fragment, null, ...pieces.map((one, index) => (index % 2 ? values[Number(one)] : one)));
}

/** The noun of a count. */
export function noun(count: number, one: string, many: string): string {
  const form = rules.select(count);
  return translated(form === "one" ? one : many, form);
}
