/** Choosing a step to put in, and naming a workflow that is made or copied. */
import { useState } from "react";
import { useAct } from "../../act";
import { ask } from "../../api";
import { Panel } from "../../parts/dialog";
import { Problems } from "../../parts/controls";
import { t } from "../../text";
import { ActionIcon, HELP, WORDS } from "./icons";
import { ACTIONS, FRESH, type Action } from "./tree";

export function Insert({
  open,
  onClose,
  onChoose,
}: {
  open: boolean;
  onClose: () => void;
  onChoose: (action: Action) => void;
}) {
  const [words, setWords] = useState("");
  const found = ACTIONS.filter((one) => `${WORDS[one]} ${HELP[one]}`.toLowerCase().includes(words.toLowerCase()));
  const choose = (action: Action) => {
    setWords("");
    onChoose(action);
  };
  return (
    <Panel title={t("Insert a step")} open={open} onClose={onClose}>
      <input
        className="field mb-2"
        placeholder={t("What it does")}
        aria-label={t("Narrow the steps")}
        value={words}
        onChange={(event) => setWords(event.target.value)}
        onKeyDown={(event) => {
          if (event.key === "Enter" && found[0]) choose(found[0]);
        }}
      />
      <ul>
        {found.map((one) => (
          <li key={one}>
            <button
              type="button"
              onClick={() => choose(one)}
              className="flex w-full items-center gap-2.5 rounded-[3px] px-2 py-1 text-left hover:bg-wash focus:bg-wash"
            >
              <ActionIcon step={FRESH[one]} className="text-ink2" />
              <b className="w-24 shrink-0 font-semibold">{WORDS[one]}</b>
              <span className="truncate text-xs text-ink2" title={HELP[one]}>
                {HELP[one]}
              </span>
            </button>
          </li>
        ))}
      </ul>
    </Panel>
  );
}

export function NewWorkflow({
  open,
  original,
  onClose,
  onMade,
}: {
  open: "" | "new" | "copy";
  original: string;
  onClose: () => void;
  onMade: (name: string) => void;
}) {
  const [name, setName] = useState("");
  const act = useAct();
  const make = () =>
    act.run(async () => {
      if (open === "copy") await ask("POST", `/definitions/workflow/${encodeURIComponent(original)}/copy`, { name });
      else
        await ask("POST", "/definitions", {
          files: { [`workflows/${name}.yaml`]: `workflow: ${name}\nsteps:\n  answer:\n    reply: {}\n` },
          based_on: { [`workflow ${name}`]: 0 },
        });
      onMade(name);
      setName("");
    });
  return (
    <Panel title={open === "copy" ? t("Copy {0}", original) : t("New workflow")} open={open !== ""} onClose={onClose}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void make();
        }}
      >
        <label className="lbl" htmlFor="wf-name">
          {t("Name")}
        </label>
        <input
          id="wf-name"
          className="field mb-2 font-mono text-[12.5px]"
          value={name}
          placeholder={open === "copy" ? `${original}-2` : "hold-berth"}
          onChange={(event) => setName(event.target.value)}
        />
        {open === "copy" && (
          <p className="mb-2 text-xs text-ink2">{t("A draft of its own; {0} stays as it is.", original)}</p>
        )}
        <Problems problems={act.problems} />
        <button type="submit" className="btn btn-main mt-2" aria-disabled={!name || act.busy}>
          {open === "copy" ? t("Copy it") : t("Make it")}
        </button>
      </form>
    </Panel>
  );
}
