/** The view: a lens on one environment or on all, kept in the address. It filters and never changes anything. */
import { useSearchParams } from "wouter";

export const ALL = "both";

export function useLens(): [string, (next: string) => void] {
  const [search, setSearch] = useSearchParams();
  const view = search.get("view") ?? ALL;
  const set = (next: string) => setSearch((old) => {
    const changed = new URLSearchParams(old);
    if (next === ALL) changed.delete("view");
    else changed.set("view", next);
    return changed;
  }, { replace: true });
  return [view, set];
}

/** A link to another page keeps the view. */
export function within(path: string, view: string): string {
  return view === ALL ? path : `${path}${path.includes("?") ? "&" : "?"}view=${encodeURIComponent(view)}`;
}
