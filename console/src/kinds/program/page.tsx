/** Copybooks: pasted or dropped, laid out beside their source, tried on bytes, and made into programs. */
import { useEffect, useMemo, useState } from "react";
import { useAddress } from "../../address";
import {
  ask,
  ProblemError,
  type CopybookLayouts,
  type ItemRow,
  type KeptCopybook,
  type KnownNames,
  type Problem,
} from "../../api";
import { DefinitionTabs } from "../../definitions/tabs";
import { fromBase64Bytes, type Files } from "../../files";
import { useLoad } from "../../load";
import { NotLoaded, Problems, Segments, Select } from "../../parts/controls";
import { Labelled, TextField } from "../../parts/dialog";
import { DropFiles } from "../../parts/drop";
import { mayAtLeast, useSession } from "../../session";
import { t } from "../../text";
import { Bytes } from "./bytes";
import { Contract } from "./contract";
import { LayoutTable, type Sides } from "./layout";
import { Source } from "./source";
import { Taking } from "./taking";
import { CODE_PAGES, said, type Copybook } from "./types";

const EMPTY: Copybook = { name: "", text: "", source_format: "", members: {}, replacing: {} };
const NEW = "";

export default function CopybooksPage() {
  const [search, setSearch] = useAddress();
  const list = useLoad<KeptCopybook[]>("/copybooks", 20);
  const known = useLoad<KnownNames>("/names");
  if (list.error && !list.data) return <NotLoaded error={list.error} />;
  if (!list.data || !known.data) return null;
  const name = search.has("copybook") ? (search.get("copybook") ?? NEW) : (list.data[0]?.name ?? NEW);
  const kept = list.data.find((one) => one.name === name);
  return (
    <>
      <DefinitionTabs at="/definitions/copybooks" />
      <Workplace
        key={name}
        kept={kept}
        list={list.data}
        known={known.data}
        onPick={(copybook) => setSearch({ copybook: copybook || null })}
        onSaved={(copybook) => {
          list.reload();
          known.reload();
          setSearch({ copybook });
        }}
      />
    </>
  );
}

function Workplace({
  kept,
  list,
  known,
  onPick,
  onSaved,
}: {
  kept: KeptCopybook | undefined;
  list: readonly KeptCopybook[];
  known: KnownNames;
  onPick: (name: string) => void;
  onSaved: (name: string) => void;
}) {
  const may = mayAtLeast(useSession(), "integrator");
  const [copybook, setCopybook] = useState<Copybook>(() => (kept ? plain(kept) : EMPTY));
  const [codePage, setCodePage] = useState("ascii");
  const [found, setFound] = useState<CopybookLayouts | null>(null);
  const [problems, setProblems] = useState<Problem[]>([]);
  const [record, setRecord] = useState("");
  const [chosen, setChosen] = useState("");
  const [line, setLine] = useState(0);
  const [sides, setSides] = useState<Sides | null>(null);
  const [below, setBelow] = useState<"contract" | "bytes">("contract");
  const [taking, setTaking] = useState(false);
  const held = useMemo(() => ({ code_page: codePage }), [codePage]);
  useEffect(() => {
    if (!copybook.text.trim()) return;
    const timer = setTimeout(() => {
      ask<CopybookLayouts>("POST", "/copybooks/layout", said(copybook)).then(
        (answer) => {
          setFound(answer);
          setProblems([]);
        },
        (error: unknown) => {
          if (error instanceof ProblemError) setProblems(error.problems);
        },
      );
    }, 250);
    return () => clearTimeout(timer);
  }, [copybook]);
  const layout = found?.records.find((one) => one.record === record) ?? found?.records[0];
  const proposal = found?.proposals.find((one) => one.record === layout?.record);
  const ticked = sides ?? { inputs: new Set(proposal?.inputs), outputs: new Set(proposal?.outputs) };
  const wrong = Number(/^line (\d+)/.exec(problems[0]?.place ?? "")?.[1] ?? 0);
  const atLine = (number: number) => {
    const item = layout?.items.findLast((one) => !one.member && one.line <= number);
    setLine(number);
    if (item) setChosen(item.path);
  };
  const choose = (item: ItemRow) => {
    setChosen(item.path);
    if (!item.member) setLine(item.line);
  };
  const changed = !kept || JSON.stringify(plain(kept)) !== JSON.stringify(copybook);
  const take = (files: Files) => {
    const texts = Object.entries(files).map(([path, content]) => [bare(path), decoded(content)] as const);
    const [first, ...others] = texts.sort(
      ([, one], [, other]) => Number(/COPY\s/i.test(other)) - Number(/COPY\s/i.test(one)),
    );
    if (!first) return;
    setSides(null);
    setCopybook({
      ...EMPTY,
      name: first[0].toLowerCase(),
      text: first[1],
      members: Object.fromEntries(others.map(([name, text]) => [name.toUpperCase(), text])),
    });
  };
  return (
    <div className="flex min-h-0 grow flex-col gap-2 px-5 py-3">
      <div className="flex shrink-0 items-end gap-3">
        <div className="w-44">
          <Labelled label={t("Copybook")}>
            {(id) => (
              <Select
                id={id}
                label={t("Copybook")}
                value={kept?.name ?? NEW}
                options={[
                  ...list.map((one) => ({ value: one.name, word: one.name })),
                  { value: NEW, word: t("a new one") },
                ]}
                onChange={onPick}
              />
            )}
          </Labelled>
        </div>
        {!kept && (
          <div className="w-44">
            <TextField
              label={t("Name")}
              value={copybook.name}
              placeholder="toll-area"
              onChange={(name) => setCopybook({ ...copybook, name })}
            />
          </div>
        )}
        <div className="w-32">
          <Labelled label={t("Code page")}>
            {(id) => (
              <Select
                id={id}
                label={t("Code page")}
                value={codePage}
                mono
                options={CODE_PAGES.map((value) => ({ value, word: value }))}
                onChange={setCodePage}
              />
            )}
          </Labelled>
        </div>
        {found && found.records.length > 1 && (
          <div className="w-44">
            <Labelled label={t("Record")}>
              {(id) => (
                <Select
                  id={id}
                  label={t("Record")}
                  mono
                  value={layout?.record ?? ""}
                  options={found.records.map((one) => ({ value: one.record, word: one.record }))}
                  onChange={(next) => {
                    setRecord(next);
                    setSides(null);
                  }}
                />
              )}
            </Labelled>
          </div>
        )}
        <p className="mb-3.5 text-ink2">
          {layout &&
            (layout.shortest === layout.length
              ? t("{0}, {1} bytes, {2} format", layout.record, layout.length, found?.source_format ?? "")
              : t(
                  "{0}, {1} to {2} bytes, {3} format",
                  layout.record,
                  layout.shortest,
                  layout.length,
                  found?.source_format ?? "",
                ))}
          {kept && kept.programs.length > 0 && ` · ${t("lays out {0}", kept.programs.join(", "))}`}
        </p>
        {may && (
          <button
            type="button"
            className="btn mb-2.5 ml-auto"
            aria-disabled={!copybook.name || !layout || !changed}
            onClick={() => {
              if (copybook.name && layout && changed) setTaking(true);
            }}
          >
            {t("Save the copybook")}
          </button>
        )}
      </div>
      <div className="grid min-h-0 grow grid-cols-[minmax(0,5fr)_minmax(0,6fr)] gap-4">
        <div className="flex min-h-0 flex-col gap-2">
          {!copybook.text && (
            <DropFiles
              label={t("Copybooks")}
              hint={t("or drop a copybook here, with those that it copies; or paste it below.")}
              names={[]}
              onTake={take}
            />
          )}
          <Source
            text={copybook.text}
            lit={line}
            wrong={wrong}
            onChange={(text) => setCopybook({ ...copybook, text })}
            onLine={atLine}
          />
          <Problems problems={problems} />
        </div>
        <div className="min-h-0 overflow-auto">
          {layout ? (
            <LayoutTable layout={layout} chosen={chosen} sides={ticked} onChoose={choose} onSides={setSides} />
          ) : (
            <p className="text-ink2">{t("The layout stands here as soon as there is a copybook.")}</p>
          )}
        </div>
      </div>
      {layout && (
        <div className="flex h-[300px] shrink-0 flex-col gap-2 border-t border-line pt-2">
          <div className="flex">
            <Segments
              label={t("Below")}
              value={below}
              options={[
                { value: "contract", word: t("What callers see") },
                { value: "bytes", word: t("Try bytes on it") },
              ]}
              onChange={setBelow}
            />
          </div>
          {below === "contract" ? (
            <Contract
              copybook={{ ...copybook, name: copybook.name || "copybook" }}
              record={layout.record}
              held={held}
              sides={ticked}
              known={known}
              may={may && copybook.name !== ""}
              onSaved={() => onSaved(copybook.name)}
            />
          ) : (
            <Bytes copybook={copybook} record={layout.record} held={held} onLine={atLine} />
          )}
        </div>
      )}
      {taking && (
        <Taking
          copybook={copybook}
          onDone={(saved) => {
            setTaking(false);
            if (saved) onSaved(copybook.name);
          }}
        />
      )}
    </div>
  );
}

function plain(kept: KeptCopybook): Copybook {
  const { name, text, source_format, members, replacing } = kept;
  return { name, text, source_format: source_format as Copybook["source_format"], members, replacing };
}

/** A name of a file without its folders and its ending. */
function bare(path: string): string {
  return (path.split("/").pop() ?? path).replace(/\.[^.]*$/, "");
}

/** Copybooks of old machines are seldom UTF-8 in their comments. */
function decoded(content: string): string {
  const bytes = fromBase64Bytes(content);
  try {
    return new TextDecoder("utf-8", { fatal: true }).decode(bytes);
  } catch {
    return new TextDecoder("latin1").decode(bytes);
  }
}
