/** What a page shows is kept in its address, so that it can be sent to somebody and Back works. Read and written here only. */
import { useSearchParams } from "wouter";

export type Changes = Record<string, string | null>;

/** The values of an address after some changed; null or an empty text takes one out. */
export function changed(old: URLSearchParams, changes: Changes): URLSearchParams {
  const next = new URLSearchParams(old);
  for (const [name, value] of Object.entries(changes)) {
    if (value) next.set(name, value);
    else next.delete(name);
  }
  return next;
}

/** The values in the address, and how to change some; the others stay. No new step for Back: the page is the same. */
export function useAddress(): [URLSearchParams, (changes: Changes) => void] {
  const [values, setValues] = useSearchParams();
  return [values, (changes) => setValues((old) => changed(old, changes), { replace: true })];
}
