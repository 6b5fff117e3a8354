/** What can be made new, and where. */
import { Link } from "wouter";
import { MADE_BY_KINDS } from "../kinds";
import type { Way } from "../kinds/kind";
import { useLens, within } from "../lens";
import { t } from "../text";

const form = (kind: string) => `/definitions?new=${kind}`;

const GROUPS: { title: string; ways: Way[] }[] = [
  {
    title: t("Where things run"),
    ways: [
      { word: t("Environment"), words: t("where releases run, and with which backends"), path: form("environment") },
      {
        word: t("Backend"),
        words: t("a database, a host, a service or a folder, and the way there"),
        path: form("backend"),
      },
      { word: t("Credential"), words: t("as whom Bricola signs on"), path: "/access?tab=credentials" },
      {
        word: t("Context list"),
        words: t("what people call a company or a site, and what stands for it"),
        path: form("context-list"),
      },
    ],
  },
  {
    title: t("What is said"),
    ways: [
      { word: t("Type"), words: t("a text or number with rules of its own"), path: form("type") },
      {
        word: t("Record"),
        words: t("fields that belong together; drawn, or from a sample or a schema"),
        path: form("record"),
      },
    ],
  },
  {
    title: t("What is published"),
    ways: [
      ...MADE_BY_KINDS,
      { word: t("Service"), words: t("operations with one contract, and who may call them"), path: form("service") },
    ],
  },
  {
    title: t("Who calls, and what proves it"),
    ways: [
      {
        word: t("Access"),
        words: t("roles and the operations that they may call, by environment"),
        path: "/access?tab=grants",
      },
      { word: t("Caller"), words: t("an application with roles and tokens"), path: "/access?tab=callers" },
      { word: t("User"), words: t("a person of this console"), path: "/access?tab=users" },
      { word: t("Suite"), words: t("cases that calls are kept as"), path: "/tests/suites" },
    ],
  },
];

const NEW = GROUPS.flatMap((group) => group.ways).filter((one) => one.path.startsWith(form("")));

/** For the finder. */
export const NEW_PLACES = NEW.map((one) => ({ word: t("New {0}", one.word.toLowerCase()), path: one.path }));

/** Kinds of definition that are filled in as forms; others have pages of their own. */
export const FORM_KINDS = NEW.map((one) => one.path.slice(form("").length));

export function Chooser() {
  const [view] = useLens();
  return (
    <div className="min-h-0 overflow-auto px-5 py-3">
      <h1 className="text-[17px] font-semibold">{t("Something new")}</h1>
      <div className="mt-2 grid grid-cols-2 gap-x-8 gap-y-4">
        {GROUPS.map((group) => (
          <section key={group.title}>
            <h2 className="mb-1 text-xs font-semibold text-ink2">{group.title}</h2>
            <ul className="border-t border-line">
              {group.ways.map((one) => (
                <li key={one.word} className="border-b border-line">
                  <Link href={within(one.path, view)} className="block px-2 py-1.5 hover:bg-wash">
                    <span className="font-semibold">{one.word}</span>{" "}
                    <span className="ml-1 text-ink2">{one.words}</span>
                  </Link>
                </li>
              ))}
            </ul>
          </section>
        ))}
      </div>
    </div>
  );
}
