/** The line to a live terminal over WebSocket. */
import { useCallback, useEffect, useRef, useState } from "react";
import type { Problem } from "../../api";
import type { HostScreen, Learned, Moved, Opened, Seen } from "./types";

type Told =
  | Opened
  | Moved
  | Learned
  | ({ type: "screen" } & Seen)
  | ({ type: "refused"; problems: Problem[] } & Seen)
  | { type: "ended"; problems: Problem[] };

export interface Line {
  state: "closed" | "opening" | "open";
  opened: Opened | undefined;
  seen: Seen | undefined;
  waiting: boolean;
  problems: Problem[];
  /** `path` is that of the terminal, below the API. */
  open: (path: string) => void;
  /** Make a backend of a host that nobody had defined. */
  learn: (name: string, credential: string) => Promise<Learned | undefined>;
  press: (key: string, fields: Record<string, string>, cursor: number) => Promise<Moved | undefined>;
  reset: () => void;
  leave: () => void;
}

/** `onScreen` hears of each screen that is shown, so that typing begins anew on it. */
export function useLine(onScreen: (screen: HostScreen) => void): Line {
  const socket = useRef<WebSocket | null>(null);
  const answer = useRef<((moved: Moved | undefined) => void) | null>(null);
  const lesson = useRef<((learned: Learned | undefined) => void) | null>(null);
  const [state, setState] = useState<Line["state"]>("closed");
  const [opened, setOpened] = useState<Opened>();
  const [seen, setSeen] = useState<Seen>();
  const [waiting, setWaiting] = useState(false);
  const [problems, setProblems] = useState<Problem[]>([]);
  const heard = useRef(onScreen);
  useEffect(() => {
    heard.current = onScreen;
  }, [onScreen]);

  const settle = (moved: Moved | undefined) => {
    setWaiting(false);
    answer.current?.(moved);
    answer.current = null;
    lesson.current?.(undefined);
    lesson.current = null;
  };
  const open = useCallback((path: string) => {
    socket.current?.close();
    setState("opening");
    setProblems([]);
    const made = new WebSocket(`${location.origin.replace("http", "ws")}/api/v1/${path}`);
    socket.current = made;
    made.onmessage = (event) => {
      const told = JSON.parse(String(event.data)) as Told;
      if (told.type === "ended") {
        setProblems(told.problems);
        settle(undefined);
        return;
      }
      if (told.type === "refused") {
        setProblems(told.problems);
        settle(undefined);
        return;
      }
      setProblems([]);
      if (told.type === "learned") {
        setWaiting(false);
        lesson.current?.(told);
        lesson.current = null;
        return;
      }
      setSeen(told);
      heard.current(told.screen);
      if (told.type === "opened") {
        setOpened(told);
        setState("open");
      }
      if (told.type === "moved") settle(told);
    };
    made.onclose = () => {
      if (socket.current === made) {
        setState("closed");
        settle(undefined);
      }
    };
  }, []);
  useEffect(
    () => () => {
      socket.current?.close();
    },
    [],
  );

  const say = (word: unknown) => socket.current?.send(JSON.stringify(word));
  return {
    state,
    opened,
    seen,
    waiting,
    problems,
    open,
    press: (key, fields, cursor) =>
      new Promise((done) => {
        if (answer.current || state !== "open") {
          done(undefined);
          return;
        }
        answer.current = done;
        setWaiting(true);
        setProblems([]);
        say({ type: "press", key, fields, cursor });
      }),
    learn: (name, credential) =>
      new Promise((done) => {
        if (lesson.current || state !== "open") {
          done(undefined);
          return;
        }
        lesson.current = done;
        setWaiting(true);
        setProblems([]);
        say({ type: "learn", name, credential });
      }),
    reset: () => say({ type: "reset" }),
    leave: () => {
      say({ type: "leave" });
      socket.current?.close();
      setState("closed");
      setOpened(undefined);
      setSeen(undefined);
    },
  };
}
