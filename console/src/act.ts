/** Doing something: one act at a time, with what went wrong and whether it is under way. */
import { useState } from "react";
import { ProblemError, type Problem } from "./api";

export interface Act {
  busy: boolean;
  problems: Problem[];
  run: (work: () => Promise<void>) => Promise<boolean>;
  clear: () => void;
}

export function useAct(): Act {
  const [busy, setBusy] = useState(false);
  const [problems, setProblems] = useState<Problem[]>([]);
  const run = async (work: () => Promise<void>) => {
    setBusy(true);
    setProblems([]);
    try {
      await work();
      return true;
    } catch (error) {
      if (!(error instanceof ProblemError)) throw error;
      setProblems(error.problems);
      return false;
    } finally {
      setBusy(false);
    }
  };
  return { busy, problems, run, clear: () => setProblems([]) };
}
