/** One field for places: sections, services, and the test bench of each operation's service. */
import { Dialog } from "radix-ui";
import { useState } from "react";
import { useLocation } from "wouter";
import type { ServiceRow } from "./api";
import type { Spot } from "./kinds/kind";
import { within } from "./lens";
import { t } from "./text";

export function Finder({
  open,
  onOpenChange,
  services,
  spots,
  view,
}: {
  open: boolean;
  onOpenChange: (open: boolean) => void;
  services: ServiceRow[];
  spots: Spot[];
  view: string;
}) {
  const [, go] = useLocation();
  const [words, setWords] = useState("");
  const [at, setAt] = useState(0);
  const places = [
    { word: t("Overview"), path: "/" },
    { word: t("Test bench"), path: "/tests" },
    { word: t("Calls"), path: "/calls" },
    { word: t("Jobs"), path: "/jobs" },
    { word: t("Releases"), path: "/releases" },
    { word: t("Pools"), path: "/pools" },
    { word: t("Definitions as text"), path: "/definitions" },
    { word: t("Packages"), path: "/definitions/packages" },
    { word: t("Integration requests"), path: "/definitions/requests" },
    ...spots,
    { word: t("Callers"), path: "/access?tab=callers" },
    { word: t("Credentials"), path: "/access?tab=credentials" },
    { word: t("Users"), path: "/access?tab=users" },
    { word: t("Audit trail"), path: "/access?tab=audit" },
    ...services.flatMap((one) => [
      { word: one.name, path: `/services/${one.name}` },
      { word: t("Test {0}", one.name), path: `/tests?service=${one.name}` },
      { word: t("Releases of {0}", one.name), path: `/releases?service=${one.name}` },
      { word: t("Calls of {0}", one.name), path: `/calls?service=${one.name}` },
    ]),
  ]
    .filter((one) =>
      words
        .toLowerCase()
        .split(/\s+/)
        .every((word) => one.word.toLowerCase().includes(word)),
    )
    .slice(0, 12);
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
            placeholder={t("Service or page")}
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
              <li key={one.path} id={`finder-${index}`} role="option" aria-selected={index === at}>
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
