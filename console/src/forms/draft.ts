/** A definition under the pen: its values and its text, each made of the other by the service as they are typed. */
import { useCallback, useEffect, useRef, useState } from "react";
import { ask, ProblemError, type DrawnText, type Problem } from "../api";
import type { Values } from "./grammar";

const PAUSE = 200; // milliseconds between the last key and the question

export interface Draft {
  kind: string;
  values: Values | null;
  text: string;
  problems: Problem[];
  lines: DrawnText["lines"];
  setValues: (values: Values) => void;
  setText: (text: string) => void;
}

interface State {
  kind: string;
  values: Values | null;
  text: string;
  problems: Problem[];
  lines: DrawnText["lines"];
}

/** Begins from a text, or without one from nothing of a kind. For another definition the component is made anew. */
export function useDraft(kind: string, text: string): Draft {
  const [state, setState] = useState<State>({
    kind,
    values: text ? null : { name: "" },
    text,
    problems: [],
    lines: [],
  });
  const asked = useRef(0);
  const timer = useRef(0);
  const began = useRef({ kind, text });

  const question = useCallback(
    (path: string, body: unknown, take: (old: State, drawn: DrawnText) => State, wait: number) => {
      const number = ++asked.current;
      window.clearTimeout(timer.current);
      timer.current = window.setTimeout(() => {
        ask<DrawnText>("POST", path, body).then(
          (drawn) => {
            if (number === asked.current) setState((old) => take(old, drawn));
          },
          (error: unknown) => {
            if (error instanceof ProblemError && number === asked.current)
              setState((old) => ({ ...old, problems: error.problems, lines: [] }));
          },
        );
      }, wait);
    },
    [],
  );

  useEffect(() => {
    const first = began.current;
    if (first.text) question("/forms/values", { text: first.text }, (old, drawn) => withValues(old, drawn), 0);
    else
      question(
        "/forms/text",
        { kind: first.kind, values: {} },
        (old, drawn) => ({ ...old, text: drawn.text, lines: drawn.lines }),
        0,
      );
  }, [question]);

  const setValues = (values: Values) => {
    setState((old) => ({ ...old, values }));
    question(
      "/forms/text",
      { kind: state.kind, values },
      (old, drawn) => ({ ...old, problems: drawn.problems, lines: drawn.lines, text: drawn.text }),
      PAUSE,
    );
  };
  const setText = (next: string) => {
    setState((old) => ({ ...old, text: next }));
    question("/forms/values", { text: next }, withValues, PAUSE);
  };
  return { ...state, setValues, setText };
}

/** What a text says, with the text left as it was typed. */
const withValues = (old: State, drawn: DrawnText): State => ({
  ...old,
  problems: drawn.problems,
  lines: drawn.lines,
  ...(drawn.values ? { kind: drawn.kind, values: drawn.values } : {}),
});
