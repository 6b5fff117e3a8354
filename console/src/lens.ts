/** The view: a lens on one environment or on all, kept in the address. It filters and never changes anything. */
import { useAddress } from "./address";

export const ALL = "both";

export function useLens(): [string, (next: string) => void] {
  const [search, setSearch] = useAddress();
  return [search.get("view") ?? ALL, (next) => setSearch({ view: next === ALL ? null : next })];
}

/** A link to another page keeps the view. */
export function within(path: string, view: string): string {
  return view === ALL ? path : `${path}${path.includes("?") ? "&" : "?"}view=${encodeURIComponent(view)}`;
}
