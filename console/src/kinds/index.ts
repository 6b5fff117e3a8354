/** All kinds of source of the console: one line each. A kind that has no folder here is shown by what the service says of it. */
import { Box } from "lucide-react";
import type { KindEntry } from "../api";
import { CONTRACT } from "./contract";
import { PROGRAM } from "./program";
import { RELAY } from "./relay";
import { ROUTINE } from "./routine";
import { WORKFLOW } from "./workflow";
import { SCREEN_FLOW } from "./screen-flow";
import { OBJECT } from "./object";
import { QUERY } from "./query";
import type { InDatabase, KindRoute, Section, SourceKind, Spot, Way } from "./kind";

export type { SourceKind } from "./kind";

const KINDS: readonly SourceKind[] = [OBJECT, QUERY, ROUTINE, SCREEN_FLOW, PROGRAM, CONTRACT, RELAY, WORKFLOW];

/** How sources of a kind are shown. */
export function kindOf(kind: string | undefined): SourceKind {
  const word = (kind ?? "").replaceAll("-", " ");
  return (
    KINDS.find((one) => one.kind === kind) ?? {
      kind: word,
      icon: Box,
      word,
      gives: word,
      comparable: false,
      routes: [],
      spots: [],
      makes: [],
      link: () => undefined,
    }
  );
}

/** Of the kinds of one service: the icon of that kind, or of several. */
export function kindsOf(sources: readonly { kind: string }[]): SourceKind[] {
  return [...new Set(sources.map((one) => one.kind))].map(kindOf);
}

export const ROUTES: readonly KindRoute[] = KINDS.flatMap((one) => one.routes);
export const IN_DATABASES: readonly InDatabase[] = KINDS.flatMap((one) => (one.inDatabase ? [one.inDatabase] : []));
export const MADE_BY_KINDS: readonly Way[] = KINDS.flatMap((one) => one.makes);
export const SECTIONS_OF_KINDS: readonly Section[] = KINDS.flatMap((one) => (one.section ? [one.section] : []));

/** The route that a path belongs to: the longest that it begins with. */
export function routeOf(path: string): KindRoute | undefined {
  return ROUTES.filter((one) => path === one.path || path.startsWith(`${one.path}/`)).sort(
    (one, other) => other.path.length - one.path.length,
  )[0];
}

/** Places for the finder: of the kinds that have a folder here, and of others where the service names a page. */
export function spotsOf(entries: readonly KindEntry[]): Spot[] {
  const others = entries.filter((one) => one.page && !KINDS.some((kind) => kind.kind === one.kind));
  return [
    ...KINDS.flatMap((one) => one.spots),
    ...others.map((one) => ({ word: one.plural[0]?.toUpperCase() + one.plural.slice(1), path: one.page })),
  ];
}
