/** How the fields of a step put what is typed into it. */
import type { Language, StepLook, WorkflowLook } from "../../api";
import type { Around } from "./fields";
import type { Step } from "./tree";

export type Put = (change: Step) => void;

/** A number where the text is one; else the text, for the review to say what is wrong with it. */
export const numeric = (text: string) => (text === "" ? undefined : /^\d+$/.test(text) ? Number(text) : text);

export interface PartsProps {
  step: Step;
  put: Put;
  look: WorkflowLook;
  about: StepLook | undefined;
  language: Language | undefined;
  around: Around;
}
