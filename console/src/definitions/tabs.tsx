/** The ways into definitions: as text, what comes from elsewhere, and those that kinds of source bring along. */
import { Link } from "wouter";
import { ROUTES } from "../kinds";
import { useLens, within } from "../lens";
import { t } from "../text";

const WAYS = [
  { path: "/definitions", word: t("All definitions") },
  { path: "/definitions/packages", word: t("Packages") },
  { path: "/definitions/requests", word: t("Integration requests") },
  ...ROUTES.flatMap((one) => (one.way ? [{ path: one.path, word: one.way }] : [])),
];

export function DefinitionTabs({ at }: { at: string }) {
  const [view] = useLens();
  return (
    <nav
      aria-label={t("Ways into definitions")}
      className="flex h-[40px] shrink-0 items-end gap-5 border-b border-line px-5"
    >
      {WAYS.map((one) => (
        <Link
          key={one.path}
          href={within(one.path, view)}
          className="tab flex items-center"
          data-state={one.path === at ? "active" : "inactive"}
          aria-current={one.path === at ? "page" : undefined}
        >
          {one.word}
        </Link>
      ))}
    </nav>
  );
}
