/** Making a package of drafts; with words that are filled in later it is a template. */
import { Plus, X } from "lucide-react";
import { useState } from "react";
import { useAct } from "../act";
import { ask } from "../api";
import { fromBase64Bytes } from "../files";
import { plural } from "../formats";
import { useLoad } from "../load";
import { Problems, Select } from "../parts/controls";
import { TextField } from "../parts/dialog";
import { Mark } from "../parts/marks";
import { rich, t } from "../text";

interface Word {
  word: string;
  name: string;
  kind: string;
}
interface Made {
  name: string;
  version: string;
  content: string;
  files: string[];
  counts: Record<string, number>;
}

const KINDS = [
  { value: "name", word: t("a name") },
  { value: "call", word: t("what a step calls") },
  { value: "type", word: t("a type") },
  { value: "text", word: t("any text") },
];

export function Packing({ onMade }: { onMade: () => void }) {
  const drafts = useLoad<{ revisions: Record<string, number> }>("/definitions");
  const [chosen, setChosen] = useState<readonly string[]>([]);
  const [narrow, setNarrow] = useState("");
  const [name, setName] = useState("");
  const [version, setVersion] = useState("1.0");
  const [about, setAbout] = useState("");
  const [words, setWords] = useState<readonly Word[]>([]);
  const [made, setMade] = useState<Made>();
  const act = useAct();
  const all = Object.keys(drafts.data?.revisions ?? {})
    .filter((one) => !one.startsWith("environment ") && one.toLowerCase().includes(narrow.toLowerCase()))
    .sort((one, other) => Number(chosen.includes(other)) - Number(chosen.includes(one)) || one.localeCompare(other));
  const ready = chosen.length > 0 && /^[A-Za-z][\w-]*$/.test(name);
  const make = () =>
    act.run(async () => {
      const parameters = Object.fromEntries(
        words.filter((one) => one.word && one.name).map((one) => [one.word, { name: one.name, kind: one.kind }]),
      );
      setMade(
        await ask<Made>("POST", "/packages/make", {
          name,
          version,
          description: about,
          definitions: chosen,
          parameters,
          keep: true,
        }),
      );
      onMade();
    });
  const save = () => {
    if (!made) return;
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([fromBase64Bytes(made.content)], { type: "application/zip" }));
    link.download = `${made.name}-${made.version}.zip`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  const change = (index: number, part: Partial<Word>) =>
    setWords(words.map((one, at) => (at === index ? { ...one, ...part } : one)));

  return (
    <section
      aria-label={t("Make a package")}
      className="grid min-h-0 min-w-0 grid-cols-[minmax(0,1fr)_340px] overflow-hidden"
    >
      <div className="flex min-h-0 flex-col px-5 py-3">
        <h1 className="mb-1 text-[17px] font-semibold">{t("Make a package")}</h1>
        <p className="mb-2 text-ink2">
          {t("Of what you choose, and of all that it needs. Backends and environments stay where they are.")}
        </p>
        <input
          data-narrow
          className="field mb-2"
          placeholder={t("Narrow by name")}
          aria-label={t("Narrow by name")}
          value={narrow}
          onChange={(event) => setNarrow(event.target.value)}
        />
        <ul className="min-h-0 grow overflow-auto border-t border-line">
          {all.map((one) => (
            <li key={one} className="border-b border-line">
              <label className="flex cursor-pointer items-center gap-2 py-1">
                <input
                  type="checkbox"
                  checked={chosen.includes(one)}
                  onChange={(event) =>
                    setChosen(event.target.checked ? [...chosen, one] : chosen.filter((other) => other !== one))
                  }
                />
                <span className="text-ink2">{`${one.split(" ")[0]} `}</span>
                {one.split(" ")[1]}
              </label>
            </li>
          ))}
        </ul>
      </div>
      <aside
        aria-label={t("What it says of itself")}
        className="min-h-0 overflow-auto border-l border-line bg-inset px-4 py-3"
      >
        <div className="grid grid-cols-[minmax(0,1fr)_72px] gap-x-2">
          <TextField label={t("Name")} value={name} onChange={setName} placeholder="passage-status" />
          <TextField label={t("Version")} value={version} onChange={setVersion} />
        </div>
        <TextField label={t("What it is for")} value={about} onChange={setAbout} />
        <h2 className="mt-2 mb-1 text-[15px] font-semibold">{t("To be filled in")}</h2>
        <p className="mb-1.5 text-xs text-ink3">
          {t("A word of the definitions, in whatever way it is written there, and what it is called as a parameter.")}
        </p>
        {words.map((one, index) => (
          <div key={index} className="mb-2 grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_24px] gap-x-1.5 gap-y-1">
            <input
              className="field"
              aria-label={t("Word")}
              placeholder="PassageStatus"
              value={one.word}
              onChange={(event) => change(index, { word: event.target.value })}
            />
            <input
              className="field"
              aria-label={t("Parameter")}
              placeholder="service"
              value={one.name}
              onChange={(event) => change(index, { name: event.target.value })}
            />
            <button
              type="button"
              className="ibtn"
              aria-label={t("Take the word out")}
              onClick={() => setWords(words.filter((_, at) => at !== index))}
            >
              <X size={15} strokeWidth={1.75} />
            </button>
            <div className="col-span-2">
              <Select
                label={t("What fits there")}
                value={one.kind}
                onChange={(kind) => change(index, { kind })}
                options={KINDS}
              />
            </div>
          </div>
        ))}
        <button
          type="button"
          className="btn"
          onClick={() => setWords([...words, { word: "", name: "", kind: "name" }])}
        >
          <Plus size={15} strokeWidth={1.75} />
          {t("A further word")}
        </button>
        {act.problems.length > 0 && (
          <div className="mt-2">
            <Problems problems={act.problems} />
          </div>
        )}
        <p className="mt-3">
          <button
            type="button"
            className="btn btn-main"
            aria-disabled={!ready || act.busy}
            onClick={() => {
              if (ready && !act.busy) void make();
            }}
          >
            {t("Make the package")}
          </button>
        </p>
        {made && (
          <div className="mt-2" role="status">
            <p className="flex gap-2">
              <Mark name="serving" />
              {rich("{0} {1} is kept here, with {2}.", made.name, made.version, plural(made.files.length, "part"))}
            </p>
            {Object.entries(made.counts).map(([parameter, times]) => (
              <p key={parameter} className="text-ink2">
                {t("{0} is filled in at {1}", parameter, plural(times, "place"))}
              </p>
            ))}
            <button type="button" className="btn mt-1.5" onClick={save}>
              {t("Save the zip")}
            </button>
          </div>
        )}
      </aside>
    </section>
  );
}
