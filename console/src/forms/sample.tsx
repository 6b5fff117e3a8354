/** A record from a pasted sample or schema, and a message of a record as it is drawn. */
import { useEffect, useState } from "react";
import { ask, ProblemError, type DrawnRecords, type Problem, type SampleMessage } from "../api";
import { useAct } from "../act";
import { Problems, Segments, Select } from "../parts/controls";
import { Panel, TextField } from "../parts/dialog";
import { plural } from "../formats";
import { t } from "../text";

export type DrawnRecord = DrawnRecords["records"][number];

export function FromSample({
  name,
  onTake,
  onClose,
}: {
  name: string;
  onTake: (records: DrawnRecord[]) => void;
  onClose: () => void;
}) {
  const act = useAct();
  const [content, setContent] = useState("");
  const [called, setCalled] = useState(name);
  const [part, setPart] = useState("");
  const [drawn, setDrawn] = useState<DrawnRecords | null>(null);
  const parts = drawn?.parts ?? [];
  const draw = (chosen = part) =>
    act.run(async () => {
      setDrawn(await ask<DrawnRecords>("POST", "/records/drawn", { content, name: called, part: chosen }));
    });
  return (
    <Panel title={t("From a sample or a schema")} open wide onClose={onClose}>
      <p className="mb-2 text-ink2">
        {t("A message in XML or JSON, an XML Schema, or a JSON Schema. Nothing is stored before you save.")}
      </p>
      <textarea
        aria-label={t("The sample or schema")}
        spellCheck={false}
        className="field h-[200px]! py-1 font-mono text-[12.5px] leading-[18px]"
        value={content}
        onChange={(event) => {
          setContent(event.target.value);
          setDrawn(null);
          setPart("");
        }}
      />
      <div className="mt-2 grid grid-cols-2 gap-3">
        <TextField
          label={t("The name of the record")}
          hint={t("Made of what stands there when empty.")}
          value={called}
          onChange={setCalled}
        />
        {parts.length > 0 && (
          <div>
            <span className="lbl">{t("Which part of the schema")}</span>
            <Select
              label={t("Which part of the schema")}
              value={part}
              onChange={(next) => {
                setPart(next);
                void draw(next);
              }}
              options={parts.map((one) => ({ value: one, word: one }))}
              placeholder={t("Choose one")}
            />
          </div>
        )}
      </div>
      <Problems problems={act.problems} />
      {drawn && (
        <div role="status" className="mt-1">
          <ul>
            {drawn.records.map((one) => (
              <li key={one.name}>
                <span className="font-mono text-[12.5px]">{one.name}</span>
                <span className="ml-2 text-ink2">
                  {plural(Object.keys(one.values.fields ?? {}).length, "field")}
                  {one.known === "same" && t("; there is one that is the same")}
                  {one.known === "other" && t("; there is another one of this name, which stays")}
                </span>
              </li>
            ))}
          </ul>
          {drawn.notes.map((one) => (
            <p key={one} className="text-xs text-ink2">
              {one}
            </p>
          ))}
        </div>
      )}
      <div className="mt-3 flex gap-2">
        {drawn?.records.length ? (
          <button type="button" className="btn btn-main" onClick={() => onTake(drawn.records)}>
            {t("Take it into the form")}
          </button>
        ) : (
          <button
            type="button"
            className="btn btn-main"
            disabled={!content.trim() || act.busy}
            onClick={() => void draw()}
          >
            {t("Draw the record")}
          </button>
        )}
        <button type="button" className="btn" onClick={onClose}>
          {t("Cancel")}
        </button>
      </div>
    </Panel>
  );
}

/** A message of the first of these records, in XML or JSON, as soon as it can be made. */
export function Message({ texts }: { texts: string[] }) {
  const [form, setForm] = useState<"xml" | "json">("xml");
  const [made, setMade] = useState<{ message?: SampleMessage; problems: Problem[] }>({ problems: [] });
  const asked = JSON.stringify(texts);
  useEffect(() => {
    let gone = false;
    const timer = window.setTimeout(() => {
      ask<SampleMessage>("POST", "/records/sample", { texts: JSON.parse(asked) as string[] }).then(
        (message) => {
          if (!gone) setMade({ message, problems: [] });
        },
        (error: unknown) => {
          if (!gone && error instanceof ProblemError) setMade({ problems: error.problems });
        },
      );
    }, 250);
    return () => {
      gone = true;
      window.clearTimeout(timer);
    };
  }, [asked]);
  return (
    <section aria-label={t("Sample message")} className="flex min-h-0 grow flex-col">
      <div className="flex items-center px-4 py-1.5">
        <h2 className="text-sm font-semibold">{t("Sample message")}</h2>
        <span className="ml-auto">
          <Segments
            label={t("Form of the message")}
            value={form}
            onChange={setForm}
            options={[
              { value: "xml", word: "XML" },
              { value: "json", word: "JSON" },
            ]}
          />
        </span>
      </div>
      <pre className="min-h-0 grow overflow-auto border-t border-line bg-inset px-4 py-2 font-mono text-[12px] leading-[17px]">
        {made.message?.[form] ?? made.problems[0]?.message ?? ""}
      </pre>
    </section>
  );
}
