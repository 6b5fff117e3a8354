/** Workflows: steps that call, decide, repeat, map and answer. */
import { Workflow } from "lucide-react";
import { lazy } from "react";
import type { SourceKind } from "../kind";
import { t } from "../../text";

export const WORKFLOW: SourceKind = {
  kind: "workflow",
  icon: Workflow,
  word: t("workflow"),
  gives: t("steps"),
  comparable: false,
  section: { path: "/workflows", word: t("Workflows"), icon: Workflow, key: "w" },
  routes: [
    {
      path: "/definitions/processes",
      page: lazy(() => import("./process")),
      section: "/services",
      place: { word: t("Definitions") },
      way: t("Processes"),
      keys: [],
    },
    {
      path: "/workflows",
      page: lazy(() => import("./page")),
      section: "/workflows",
      place: { value: "workflow" },
      keys: [
        { keys: ["J", "K"], word: t("walk the steps") },
        { keys: ["I"], word: t("insert a step") },
        { keys: ["E"], word: t("edit the step") },
        { keys: ["L"], word: t("suggest links") },
        { keys: ["Shift", "J"], word: t("move down") },
        { keys: ["Ctrl", "Enter"], word: t("run it") },
        { keys: ["Ctrl", "S"], word: t("save") },
      ],
    },
  ],
  spots: [
    { word: t("Bring in a process"), path: "/definitions/processes" },
    { word: t("Workflows"), path: "/workflows" },
  ],
  makes: [{ word: t("Workflow"), words: t("steps that call others"), path: "/workflows" }],
  link: (name) => ({ word: t("See its steps"), path: `/workflows?workflow=${encodeURIComponent(name)}` }),
};
