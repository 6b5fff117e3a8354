/** The ways of testing: one call by hand, the suites that are kept, and what is made from contracts. */
import { Link } from "wouter";
import { useLens, within } from "../lens";
import { t } from "../text";

const WAYS = [
  { path: "/tests", word: t("Bench") },
  { path: "/tests/suites", word: t("Suites") },
  { path: "/tests/contract", word: t("From the contract") },
];

export function TestTabs({ at }: { at: string }) {
  const [view] = useLens();
  return (
    <nav aria-label={t("Ways of testing")} className="flex h-[40px] shrink-0 items-end gap-5 border-b border-line px-5">
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
