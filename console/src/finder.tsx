/** One field for places: sections and their tabs, what can be made new, services, operations, definitions, pools, callers and credentials. */
import { Dialog } from "radix-ui";
import { useState } from "react";
import { useLocation } from "wouter";
import type { KnownNames, PoolRow, ServiceRow } from "./api";
import { NEW_PLACES } from "./definitions/chooser";
import { kindOf } from "./kinds";
import type { Spot } from "./kinds/kind";
import { within } from "./lens";
import { useLoad } from "./load";
import { t } from "./text";

const MOST = 12;

/** What /names gives beside names of definitions. */
const NO_DEFINITIONS = new Set(["primitive", "engine", "role", "runs", "operation", "caller", "credential"]);

const PLACES: Spot[] = [
  { word: t("Overview"), path: "/" },
  { word: t("Services"), path: "/services" },
  { word: t("The first hour"), path: "/start" },
  { word: t("Test bench"), path: "/tests" },
  { word: t("Test suites"), path: "/tests/suites" },
  { word: t("Tests of a contract"), path: "/tests/contract" },
  { word: t("Calls"), path: "/calls" },
  { word: t("Jobs"), path: "/jobs" },
  { word: t("Releases"), path: "/releases" },
  { word: t("Pools"), path: "/pools" },
  { word: t("All definitions"), path: "/definitions" },
  { word: t("Something new"), path: "/definitions?new=any" },
  { word: t("Packages"), path: "/definitions/packages" },
  { word: t("Integration requests"), path: "/definitions/requests" },
  { word: t("Callers"), path: "/access?tab=callers" },
  { word: t("Grants"), path: "/access?tab=grants" },
  { word: t("Credentials"), path: "/access?tab=credentials" },
  { word: t("Users"), path: "/access?tab=users" },
  { word: t("Audit trail"), path: "/access?tab=audit" },
  ...NEW_PLACES,
];

function placesOf(services: ServiceRow[], pools: PoolRow[], names: KnownNames["names"]): Spot[] {
  const list = (kind: string) => names[kind] ?? [];
  return [
    ...services.flatMap((one) => [
      { word: one.name, path: `/services/${one.name}` },
      { word: t("Test {0}", one.name), path: `/tests?service=${one.name}` },
      { word: t("Releases of {0}", one.name), path: `/releases?service=${one.name}` },
      { word: t("Calls of {0}", one.name), path: `/calls?service=${one.name}` },
    ]),
    ...list("operation").map((one) => {
      const [service = "", operation = ""] = one.split(".");
      return { word: t("Test {0}", one), path: `/tests?service=${service}&operation=${operation}` };
    }),
    ...pools.map((one) => ({
      word: t("Pool {0} in {1}", one.backend, one.environment),
      path: `/pools?pool=${encodeURIComponent(`${one.backend} ${one.environment}`)}`,
    })),
    ...list("caller").map((one) => ({ word: t("Caller {0}", one), path: `/access?tab=callers&caller=${one}` })),
    ...list("credential").map((one) => ({ word: t("Credential {0}", one), path: "/access?tab=credentials" })),
    ...Object.entries(names)
      .filter(([kind]) => !NO_DEFINITIONS.has(kind))
      .flatMap(([kind, each]) => each.flatMap((name) => ofDefinition(kind, name))),
  ];
}

/** Where a definition is seen: its own editor, where it has one, and its form and text. */
function ofDefinition(kind: string, name: string): Spot[] {
  const own = kindOf(kind).link(name);
  const word = kind.replaceAll("-", " ");
  const text = { word: t("{0} {1}", word, name), path: `/definitions?of=${encodeURIComponent(`${kind} ${name}`)}` };
  return own ? [own, text] : [text];
}

export function Finder({
  open,
  onOpenChange,
  services,
  pools,
  spots,
  view,
}: {
  open: boolean;
  onOpenChange: (open: boolean) => void;
  services: ServiceRow[];
  pools: PoolRow[];
  spots: Spot[];
  view: string;
}) {
  const [, go] = useLocation();
  const [words, setWords] = useState("");
  const [at, setAt] = useState(0);
  const known = useLoad<KnownNames>(open ? "/names" : null);
  const places = [...PLACES, ...spots, ...placesOf(services, pools, known.data?.names ?? {})]
    .filter((one) =>
      words
        .toLowerCase()
        .split(/\s+/)
        .every((word) => one.word.toLowerCase().includes(word)),
    )
    .slice(0, MOST);
  const choose = (index: number) => {
    const place = places[index];
    if (!place) return;
    go(within(place.path, view));
    onOpenChange(false);
    setWords("");
    setAt(0);
  };
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/25" />
        <Dialog.Content
          aria-describedby={undefined}
          className="pop fixed top-16 left-1/2 z-40 w-[440px] -translate-x-1/2 p-2"
        >
          <Dialog.Title className="sr-only">{t("Find a place")}</Dialog.Title>
          <input
            className="field"
            aria-label={t("Find a place")}
            placeholder={t("A page, a service, an operation, a definition")}
            value={words}
            role="combobox"
            aria-expanded="true"
            aria-controls="finder-places"
            aria-activedescendant={`finder-${at}`}
            onChange={(event) => {
              setWords(event.target.value);
              setAt(0);
            }}
            onKeyDown={(event) => {
              if (event.key === "ArrowDown") setAt(Math.min(at + 1, places.length - 1));
              else if (event.key === "ArrowUp") setAt(Math.max(at - 1, 0));
              else if (event.key === "Enter") choose(at);
              else return;
              event.preventDefault();
            }}
          />
          <ul id="finder-places" role="listbox" aria-label={t("Places")} className="mt-1">
            {places.map((one, index) => (
              <li key={`${one.word} ${one.path}`} id={`finder-${index}`} role="option" aria-selected={index === at}>
                <button
                  type="button"
                  tabIndex={-1}
                  onClick={() => choose(index)}
                  className={`block h-7 w-full rounded-[3px] px-2 text-left ${index === at ? "bg-wash" : "hover:bg-inset"}`}
                >
                  {one.word}
                </button>
              </li>
            ))}
            {!places.length && <li className="px-2 py-1 text-ink2">{t("Nothing matches.")}</li>}
          </ul>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
