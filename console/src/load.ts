/** Loading with the old content kept, repeated while the tab is visible. */
import { useCallback, useEffect, useRef, useState } from "react";
import { ask, ProblemError } from "./api";

export interface Loaded<T> {
  data: T | undefined;
  error: ProblemError | undefined;
  at: number | undefined;
  reload: () => void;
}

export function useLoad<T>(path: string | null, everySeconds = 0): Loaded<T> {
  const [state, setState] = useState<{ path: string | null; data?: T; error?: ProblemError; at?: number }>({
    path: null,
  });
  const asked = useRef(0);
  const reload = useCallback(() => {
    if (path === null) return;
    const number = ++asked.current;
    ask<T>("GET", path).then(
      (data) => {
        if (number === asked.current) setState({ path, data, at: Date.now() });
      },
      (error: unknown) => {
        if (number === asked.current && error instanceof ProblemError)
          setState((old) => (old.path === path ? { ...old, error } : { path, error }));
      },
    );
  }, [path]);
  useEffect(() => {
    reload();
    if (!everySeconds) return;
    const timer = setInterval(() => {
      if (!document.hidden) reload();
    }, everySeconds * 1000);
    return () => clearInterval(timer);
  }, [reload, everySeconds]);
  const fresh = state.path === path;
  return { data: fresh ? state.data : undefined, error: fresh ? state.error : undefined, at: state.at, reload };
}
