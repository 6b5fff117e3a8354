/** Top bar, waterline, rail and key line around every page. */
import {
  ChevronRight,
  CircleHelp,
  FlaskConical,
  Gauge,
  Layers,
  ListChecks,
  ListTree,
  Package,
  Plug,
  Search,
  UsersRound,
} from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useMemo, useState, type ReactNode } from "react";
import { Link, useLocation } from "wouter";
import { useAddress } from "./address";
import { ask, type KindEntry, type Overview } from "./api";
import { Finder } from "./finder";
import { useKeys } from "./hotkeys";
import { KeyHelp, KEYS, keysOf } from "./key-help";
import { routeOf, SECTIONS_OF_KINDS, spotsOf } from "./kinds";
import type { Section } from "./kinds/kind";
import { ALL, useLens, within } from "./lens";
import { useLoad } from "./load";
import { Segments } from "./parts/controls";
import { ContextWords } from "./parts/context";
import { Logo, Mark } from "./parts/marks";
import { useSession } from "./session";
import { clock } from "./formats";
import { rich, t } from "./text";

const SECTIONS: Section[] = [
  { path: "/", word: t("Overview"), icon: Gauge, key: "o" },
  { path: "/services", word: t("Services"), icon: Layers, key: "s" },
  ...SECTIONS_OF_KINDS,
  { path: "/tests", word: t("Tests"), icon: FlaskConical, key: "t" },
  { path: "/releases", word: t("Releases"), icon: Package, key: "r" },
  { path: "/pools", word: t("Pools"), icon: Plug, key: "p" },
  { path: "/calls", word: t("Calls"), icon: ListTree, key: "c" },
  { path: "/jobs", word: t("Jobs"), icon: ListChecks, key: "j" },
  { path: "/access", word: t("Access"), icon: UsersRound, key: "a" },
];
const FIRST_OF_GROUP = ["/services", "/releases"];

/** The section of the rail that a path belongs to. */
function sectionOf(path: string): string {
  const route = routeOf(path);
  if (route) return route.section;
  if (path.startsWith("/definitions")) return "/services";
  return SECTIONS.find((one) => one.path !== "/" && path.startsWith(one.path))?.path ?? "/";
}

/** What of a section is shown, for the way at the top; empty where the section is all. */
function placeOf(path: string, section: string, search: URLSearchParams): string {
  const place = routeOf(path)?.place;
  if (place) return "word" in place ? place.word : (search.get(place.value) ?? "");
  if (path.startsWith("/definitions")) return t("Definitions");
  if (path === "/start") return t("The first hour");
  if (section === "/services") return decodeURIComponent(path.split("/")[2] ?? "");
  if (section === "/pools") return (search.get("pool") ?? "").replace(" ", " in ");
  return section === "/access" ? "" : (search.get("service") ?? "");
}

function setTheme(theme: string) {
  localStorage.setItem("theme", theme);
  const dark = theme === "dark" || (theme === "system" && matchMedia("(prefers-color-scheme:dark)").matches);
  document.documentElement.dataset.theme = dark ? "dark" : "light";
}

export function Shell({ children, onLeave }: { children: ReactNode; onLeave: () => void }) {
  const person = useSession();
  const [path, go] = useLocation();
  const [search] = useAddress();
  const [view, setView] = useLens();
  const overview = useLoad<Overview>("/overview", 15);
  const kinds = useLoad<KindEntry[]>("/kinds");
  const [finding, setFinding] = useState(false);
  const [help, setHelp] = useState(false);
  const section = sectionOf(path);
  const services = useMemo(() => overview.data?.services ?? [], [overview.data]);
  const environments = useMemo(() => overview.data?.environments ?? [], [overview.data]);
  const hrefOf = (to: string) => within(to, view);

  useKeys({
    "Ctrl+k": (event) => {
      event.preventDefault();
      setFinding(true);
    },
    "?": () => setHelp(true),
    "/": (event) => {
      const field = document.querySelector<HTMLInputElement>("[data-narrow]");
      if (!field) return;
      event.preventDefault();
      field.focus();
    },
    ...Object.fromEntries(SECTIONS.map((one) => [`g ${one.key}`, () => go(hrefOf(one.path))])),
  });

  const leave = async () => {
    await ask("DELETE", "/session");
    onLeave();
  };
  const chosen = environments.find((one) => one.name === view);
  const lens = view === ALL || !chosen ? "lens-both" : chosen.protected ? "lens-solid" : "lens-hatched";
  const place = placeOf(path, section, search);
  const word = SECTIONS.find((one) => one.path === section)?.word ?? "";

  return (
    <div className="grid h-screen grid-rows-[44px_4px_minmax(0,1fr)_26px] overflow-hidden bg-frame">
      <a href="#main" className="sr-only focus:not-sr-only">
        {t("Skip to content")}
      </a>
      <header className="flex items-center gap-3 pr-3 pl-4">
        <Link
          href={within("/", view)}
          className="flex w-[112px] items-center gap-2"
          aria-label={t("Bricola, overview")}
        >
          <Logo />
          <span className="text-[17px] font-bold tracking-[-0.01em]">{t("Bricola")}</span>
        </Link>
        <span className="h-5 w-px bg-line2" />
        <nav aria-label={t("Place")} className="flex min-w-0 items-center gap-1.5 whitespace-nowrap">
          {person.organisation && (
            <>
              <span className="text-ink2">{person.organisation}</span>
              <ChevronRight size={14} className="text-ink3" />
            </>
          )}
          {place ? (
            <>
              <Link className="text-ink2 hover:text-accent" href={within(section, view)}>
                {word}
              </Link>
              <ChevronRight size={14} className="text-ink3" />
              <span className="font-semibold">{place}</span>
            </>
          ) : (
            <span className="font-semibold">{word}</span>
          )}
        </nav>
        {chosen && <ContextWords context={chosen.context} />}
        <button
          type="button"
          onClick={() => setFinding(true)}
          className="ml-auto flex h-7 w-[216px] items-center gap-2 rounded-[3px] border border-edge bg-raised px-2 text-ink3"
        >
          <Search size={15} strokeWidth={1.75} />
          <span className="grow text-left">{t("Find a place")}</span>
          <kbd className="kbd">Ctrl</kbd>
          <kbd className="kbd">K</kbd>
        </button>
        {environments.length > 0 && (
          <div className="flex items-center gap-1.5 text-xs text-ink2">
            {rich(
              "View{0}",
              <Segments
                label={t("View")}
                value={chosen ? view : ALL}
                onChange={setView}
                options={[
                  ...environments.map((one) => ({ value: one.name, word: one.name })),
                  { value: ALL, word: environments.length > 2 ? t("all") : t("both") },
                ]}
              />,
            )}
          </div>
        )}
        <DropdownMenu.Root>
          <DropdownMenu.Trigger
            className="size-7 rounded-[3px] bg-wash text-xs font-bold text-accent uppercase"
            aria-label={t("Account of {0}", person.name)}
          >
            {person.name.slice(0, 2)}
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content align="end" sideOffset={4} className="pop z-40 w-52 p-1">
              <div className="px-2 py-1.5">
                <div className="font-semibold">{person.name}</div>
                <div className="text-xs text-ink2">{person.role}</div>
              </div>
              <DropdownMenu.Separator className="my-1 h-px bg-line" />
              {(["light", "dark", "system"] as const).map((theme) => (
                <DropdownMenu.Item
                  key={theme}
                  onSelect={() => setTheme(theme)}
                  className="cursor-pointer rounded-[3px] px-2 py-1 outline-none data-highlighted:bg-wash"
                >
                  {theme === "system"
                    ? t("Theme of the system")
                    : t("{0} theme", theme === "light" ? t("Light") : t("Dark"))}
                </DropdownMenu.Item>
              ))}
              <DropdownMenu.Separator className="my-1 h-px bg-line" />
              <DropdownMenu.Item
                onSelect={() => void leave()}
                className="cursor-pointer rounded-[3px] px-2 py-1 outline-none data-highlighted:bg-wash"
              >
                {t("Sign out")}
              </DropdownMenu.Item>
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
      </header>
      <div className={lens} aria-hidden="true" />
      <div className="grid min-h-0 grid-cols-[72px_minmax(0,1fr)]">
        <nav aria-label={t("Sections")} className="flex flex-col pt-1.5 pb-2">
          {SECTIONS.map((one) => [
            FIRST_OF_GROUP.includes(one.path) && <span key={`${one.path}-line`} className="mx-4 my-1 h-px bg-line2" />,
            <Link
              key={one.path}
              href={hrefOf(one.path)}
              className="navi"
              aria-current={section === one.path ? "page" : undefined}
              title={t("{0}: g then {1}", one.word, one.key)}
            >
              <one.icon size={18} strokeWidth={1.75} />
              <span>{one.word}</span>
            </Link>,
          ])}
          <button type="button" className="navi mt-auto" onClick={() => setHelp(true)}>
            <CircleHelp size={18} strokeWidth={1.75} />
            <span>{t("Keys")}</span>
          </button>
        </nav>
        <main
          id="main"
          className="flex min-h-0 min-w-0 flex-col overflow-hidden rounded-tl-[6px] border-t border-l border-line bg-sheet"
        >
          {children}
        </main>
      </div>
      <footer className="flex items-center gap-4 overflow-hidden border-t border-line px-4 text-xs whitespace-nowrap text-ink2">
        {keysOf(path, section)
          .slice(0, 6)
          .map((one) => (
            <span key={one.word} className="flex items-center gap-1">
              {one.keys.map((key) => (
                <kbd key={key} className="kbd">
                  {key}
                </kbd>
              ))}
              <span className="ml-1">{one.word}</span>
            </span>
          ))}
        <span className="ml-auto flex items-center gap-1.5" role="status">
          <Mark name={overview.error ? "fault" : "serving"} />
          {overview.error
            ? t("No contact since {0}, trying again", overview.at ? clock(new Date(overview.at)) : t("the start"))
            : overview.at
              ? t("Up to date at {0}", clock(new Date(overview.at)))
              : t("Reading")}
        </span>
      </footer>
      <Finder
        open={finding}
        onOpenChange={setFinding}
        services={services}
        pools={overview.data?.pools ?? []}
        spots={spotsOf(kinds.data ?? [])}
        view={view}
      />
      <KeyHelp open={help} onOpenChange={setHelp} keys={[...keysOf(path, section), ...KEYS]} />
    </div>
  );
}
