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
  /** Whether what was typed last is not in the text yet. */
  pending: boolean;
  /** The text with all that was typed, whatever was still to be asked. Raises ProblemError. */
  settled: () => Promise<string>;
}

interface State {
  kind: string;
  values: Values | null;
  text: string;
  problems: Problem[];
  lines: DrawnText["lines"];
}

/** Begins from a text, or without one from nothing of a kind. For another definition the component is made anew. Where there is no form
    nothing is asked: a contract is megabytes of text. */
export function useDraft(kind: string, text: string, hasForm: boolean): Draft {
  const [state, setState] = useState<State>({
    kind,
    values: text ? null : { name: "" },
    text,
    problems: [],
    lines: [],
  });
  const asked = useRef(0);
  const timer = useRef(0);
  const began = useRef({ kind, text, hasForm });
  const [pending, setPending] = useState(false);
  /** The text as it was typed, where the text was typed last; else it is made of the form. */
  const typed = useRef<string>(undefined);
  const last = useRef<() => Promise<DrawnText | undefined>>(undefined);

  const question = useCallback(
    (path: string, body: unknown, take: (old: State, drawn: DrawnText) => State, wait: number) => {
      const number = ++asked.current;
      window.clearTimeout(timer.current);
      setPending(true);
      const put = async () => {
        window.clearTimeout(timer.current);
        try {
          const drawn = await ask<DrawnText>("POST", path, body);
          if (number === asked.current) setState((old) => take(old, drawn));
          return drawn;
        } finally {
          if (number === asked.current) {
            last.current = undefined;
            setPending(false);
          }
        }
      };
      last.current = put;
      timer.current = window.setTimeout(() => {
        put().catch((error: unknown) => {
          if (error instanceof ProblemError && number === asked.current)
            setState((old) => ({ ...old, problems: error.problems, lines: [] }));
        });
      }, wait);
    },
    [],
  );

  useEffect(() => {
    const first = began.current;
    if (!first.hasForm) return;
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
    typed.current = undefined;
    question(
      "/forms/text",
      { kind: state.kind, values },
      (old, drawn) => ({ ...old, problems: drawn.problems, lines: drawn.lines, text: drawn.text }),
      PAUSE,
    );
  };
  const setText = (next: string) => {
    setState((old) => ({ ...old, text: next }));
    typed.current = next;
    if (hasForm) question("/forms/values", { text: next }, withValues, PAUSE);
  };
  const settled = async () => {
    const drawn = await last.current?.();
    return typed.current ?? drawn?.text ?? state.text;
  };
  return { ...state, setValues, setText, pending, settled };
}

/** What a text says, with the text left as it was typed. */
const withValues = (old: State, drawn: DrawnText): State => ({
  ...old,
  problems: drawn.problems,
  lines: drawn.lines,
  ...(drawn.values ? { kind: drawn.kind, values: drawn.values } : {}),
});
