/** Top bar, waterline, rail and key line around every page. */
import { ChevronRight, CircleHelp, FlaskConical, Gauge, Layers, ListTree, Package, Plug, Search, SquareTerminal, UsersRound } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useEffect, useMemo, useRef, useState, type ReactNode } from "react";
import { Link, useLocation, useSearchParams } from "wouter";
import { ask, type Overview } from "./api";
import { Finder } from "./finder";
import { KeyHelp, KEYS, keysOf } from "./keys";
import { ALL, useLens, within } from "./lens";
import { useLoad } from "./load";
import { Segments } from "./parts/controls";
import { Logo, Mark } from "./parts/marks";
import { useSession } from "./session";
import { clock } from "./words";

const SECTIONS = [
  { path: "/", word: "Overview", icon: Gauge, key: "o" },
  { path: "/services", word: "Services", icon: Layers, key: "s" },
  { path: "/screens", word: "Screens", icon: SquareTerminal, key: "n" },
  { path: "/tests", word: "Tests", icon: FlaskConical, key: "t" },
  { path: "/releases", word: "Releases", icon: Package, key: "r" },
  { path: "/pools", word: "Pools", icon: Plug, key: "p" },
  { path: "/calls", word: "Calls", icon: ListTree, key: "c" },
  { path: "/access", word: "Access", icon: UsersRound, key: "a" },
];
const FIRST_OF_GROUP = ["/services", "/releases"];

function sectionOf(path: string): string {
  if (path.startsWith("/definitions")) return "/services";
  return SECTIONS.find((one) => one.path !== "/" && path.startsWith(one.path))?.path ?? "/";
}

function setTheme(theme: string) {
  localStorage.setItem("theme", theme);
  const dark = theme === "dark" || (theme === "system" && matchMedia("(prefers-color-scheme:dark)").matches);
  document.documentElement.dataset.theme = dark ? "dark" : "light";
}

export function Shell({ children, onLeave }: { children: ReactNode; onLeave: () => void }) {
  const person = useSession();
  const [path, go] = useLocation();
  const [search] = useSearchParams();
  const [view, setView] = useLens();
  const overview = useLoad<Overview>("/overview", 15);
  const [finding, setFinding] = useState(false);
  const [help, setHelp] = useState(false);
  const section = sectionOf(path);
  const services = useMemo(() => overview.data?.services ?? [], [overview.data]);
  const environments = useMemo(() => overview.data?.environments ?? [], [overview.data]);
  const first = services[0]?.name;
  const waiting = useRef(0);

  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key === "k") {
        event.preventDefault();
        setFinding(true);
        return;
      }
      const target = event.target as HTMLElement;
      if (event.ctrlKey || event.metaKey || event.altKey || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName)) return;
      if (event.key === "?") setHelp(true);
      else if (event.key === "/") {
        const field = document.querySelector<HTMLInputElement>("[data-narrow]");
        if (field) { event.preventDefault(); field.focus(); }
      } else if (event.key === "g") waiting.current = Date.now();
      else if (Date.now() - waiting.current < 1200) {
        waiting.current = 0;
        const to = SECTIONS.find((one) => one.key === event.key);
        if (to) go(within(to.path === "/services" && first ? `/services/${first}` : to.path === "/services" ? "/" : to.path, view));
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [go, view, first]);

  const leave = async () => {
    await ask("DELETE", "/session");
    onLeave();
  };
  const chosen = environments.find((one) => one.name === view);
  const lens = view === ALL || !chosen ? "lens-both" : chosen.protected ? "lens-solid" : "lens-hatched";
  const place = path.startsWith("/definitions") ? "Definitions" : section === "/services" ? decodeURIComponent(path.split("/")[2] ?? "")
    : path === "/screens/record" ? "Record" : section === "/screens" ? (search.get("flow") ?? "") : section === "/pools" ? (search.get("pool") ?? "").replace(" ", " in ") : section === "/access" ? "" : search.get("service") ?? "";
  const word = SECTIONS.find((one) => one.path === section)?.word ?? "";

  return (
    <div className="grid h-screen grid-rows-[44px_4px_minmax(0,1fr)_26px] overflow-hidden bg-frame">
      <a href="#main" className="sr-only focus:not-sr-only">Skip to content</a>
      <header className="flex items-center gap-3 pr-3 pl-4">
        <Link href={within("/", view)} className="flex w-[112px] items-center gap-2" aria-label="Bricola, overview">
          <Logo /><span className="text-[17px] font-bold tracking-[-0.01em]">Bricola</span>
        </Link>
        <span className="h-5 w-px bg-line2" />
        <nav aria-label="Place" className="flex min-w-0 items-center gap-1.5 whitespace-nowrap">
          {person.organisation && <><span className="text-ink2">{person.organisation}</span><ChevronRight size={14} className="text-ink3" /></>}
          {place ? <><Link className="text-ink2 hover:text-accent" href={within(section === "/services" ? "/" : section, view)}>{word}</Link>
            <ChevronRight size={14} className="text-ink3" /><span className="font-semibold">{place}</span></> : <span className="font-semibold">{word}</span>}
        </nav>
        <button type="button" onClick={() => setFinding(true)} className="ml-auto flex h-7 w-[216px] items-center gap-2 rounded-[3px] border border-edge bg-raised px-2 text-ink3">
          <Search size={15} strokeWidth={1.75} /><span className="grow text-left">Find a place</span><kbd className="kbd">Ctrl</kbd><kbd className="kbd">K</kbd>
        </button>
        {environments.length > 0 && (
          <div className="flex items-center gap-1.5 text-xs text-ink2">View
            <Segments label="View" value={chosen ? view : ALL} onChange={setView}
              options={[...environments.map((one) => ({ value: one.name, word: one.name })), { value: ALL, word: environments.length > 2 ? "all" : "both" }]} />
          </div>
        )}
        <DropdownMenu.Root>
          <DropdownMenu.Trigger className="size-7 rounded-[3px] bg-wash text-xs font-bold text-accent uppercase" aria-label={`Account of ${person.name}`}>
            {person.name.slice(0, 2)}
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content align="end" sideOffset={4} className="pop z-40 w-52 p-1">
              <div className="px-2 py-1.5"><div className="font-semibold">{person.name}</div><div className="text-xs text-ink2">{person.role}</div></div>
              <DropdownMenu.Separator className="my-1 h-px bg-line" />
              {(["light", "dark", "system"] as const).map((theme) => (
                <DropdownMenu.Item key={theme} onSelect={() => setTheme(theme)} className="cursor-pointer rounded-[3px] px-2 py-1 outline-none data-highlighted:bg-wash">
                  {theme === "system" ? "Theme of the system" : `${theme === "light" ? "Light" : "Dark"} theme`}
                </DropdownMenu.Item>
              ))}
              <DropdownMenu.Separator className="my-1 h-px bg-line" />
              <DropdownMenu.Item onSelect={() => void leave()} className="cursor-pointer rounded-[3px] px-2 py-1 outline-none data-highlighted:bg-wash">Sign out</DropdownMenu.Item>
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
      </header>
      <div className={lens} aria-hidden="true" />
      <div className="grid min-h-0 grid-cols-[72px_minmax(0,1fr)]">
        <nav aria-label="Sections" className="flex flex-col pt-1.5 pb-2">
          {SECTIONS.map((one) => [
            FIRST_OF_GROUP.includes(one.path) && <span key={`${one.path}-line`} className="mx-4 my-1 h-px bg-line2" />,
            <Link key={one.path} href={within(one.path === "/services" ? (first ? `/services/${first}` : "/") : one.path, view)}
              className="navi" aria-current={section === one.path ? "page" : undefined} title={`${one.word}: g then ${one.key}`}>
              <one.icon size={18} strokeWidth={1.75} /><span>{one.word}</span>
            </Link>,
          ])}
          <button type="button" className="navi mt-auto" onClick={() => setHelp(true)}><CircleHelp size={18} strokeWidth={1.75} /><span>Keys</span></button>
        </nav>
        <main id="main" className="flex min-h-0 min-w-0 flex-col overflow-hidden rounded-tl-[6px] border-t border-l border-line bg-sheet">{children}</main>
      </div>
      <footer className="flex items-center gap-4 overflow-hidden border-t border-line px-4 text-xs whitespace-nowrap text-ink2">
        {keysOf(/^\/(definitions|screens)/.test(path) ? path : section).slice(0, 6).map((one) => (
          <span key={one.word} className="flex items-center gap-1">{one.keys.map((key) => <kbd key={key} className="kbd">{key}</kbd>)}<span className="ml-1">{one.word}</span></span>
        ))}
        <span className="ml-auto flex items-center gap-1.5" role="status">
          <Mark name={overview.error ? "fault" : "serving"} />
          {overview.error ? `No contact since ${overview.at ? clock(new Date(overview.at)) : "the start"}, trying again`
            : overview.at ? `Up to date at ${clock(new Date(overview.at))}` : "Reading"}
        </span>
      </footer>
      <Finder open={finding} onOpenChange={setFinding} services={services} view={view} />
      <KeyHelp open={help} onOpenChange={setHelp} keys={[...keysOf(section), ...KEYS]} />
    </div>
  );
}
