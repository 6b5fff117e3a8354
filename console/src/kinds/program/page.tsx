/** Copybooks: pasted or dropped, laid out beside their source, tried on bytes, and made into programs. */
import { useEffect, useMemo, useState } from "react";
import { useAddress } from "../../address";
import { ask, ProblemError, type CopybookLayouts, type ItemRow, type KeptCopybook, type KnownNames } from "../../api";
import { DefinitionTabs } from "../../definitions/tabs";
import type { Files } from "../../files";
import { useLoad } from "../../load";
import { NotLoaded, Problems, Segments } from "../../parts/controls";
import { DropFiles } from "../../parts/drop";
import { mayAtLeast, useSession } from "../../session";
import { t } from "../../text";
import { Areas } from "./areas";
import { Bytes } from "./bytes";
import { Contract } from "./contract";
import { Head } from "./head";
import { LayoutTable } from "./layout";
import { Source } from "./source";
import { Taking } from "./taking";
import {
  dropped,
  laidOutBy,
  layoutOf,
  newArea,
  said,
  sidesOf,
  withAnother,
  type AreaWork,
  type Copybook,
} from "./types";

export default function CopybooksPage() {
  const [search, setSearch] = useAddress();
  const list = useLoad<KeptCopybook[]>("/copybooks", 20);
  const known = useLoad<KnownNames>("/names");
  const [stayed, setStayed] = useState({ name: "", at: "" });
  if (list.error && !list.data) return <NotLoaded error={list.error} />;
  if (!list.data || !known.data) return null;
  const name = search.has("copybook") ? (search.get("copybook") ?? "") : (list.data[0]?.name ?? "");
  const at = stayed.name === name ? stayed.at : name; // what was just saved has a name now, and is still worked on
  return (
    <>
      <DefinitionTabs at="/definitions/copybooks" />
      <Workplace
        key={at}
        first={list.data.find((one) => one.name === name)}
        list={list.data}
        known={known.data}
        onPick={(copybook) => setSearch({ copybook })}
        onSaved={(copybook) => {
          list.reload();
          known.reload();
          setStayed({ name: copybook, at });
          setSearch({ copybook });
        }}
      />
    </>
  );
}

function Workplace({
  first,
  list,
  known,
  onPick,
  onSaved,
}: {
  first: KeptCopybook | undefined;
  list: readonly KeptCopybook[];
  known: KnownNames;
  onPick: (name: string) => void;
  onSaved: (name: string) => void;
}) {
  const may = mayAtLeast(useSession(), "integrator");
  const [areas, setAreas] = useState<readonly AreaWork[]>(() => [newArea("area", "both", first)]);
  const [at, setAt] = useState(0);
  const [codePage, setCodePage] = useState("ascii");
  const [line, setLine] = useState(0);
  const [chosen, setChosen] = useState("");
  const [below, setBelow] = useState<"contract" | "bytes">("contract");
  const [taking, setTaking] = useState(false);
  const held = useMemo(() => ({ code_page: codePage }), [codePage]);
  const area = areas[at] ?? areas[0]!;
  const { copybook } = area;
  const change = (part: Partial<AreaWork>) =>
    setAreas((all) => all.map((one, index) => (index === at ? { ...one, ...part } : one)));
  useEffect(() => {
    const waiting = new Set(areas.filter((one) => one.asked !== one.copybook).map((one) => one.copybook));
    if (!waiting.size) return;
    const lay = (asked: Copybook) => {
      const settle = (part: Partial<AreaWork>) =>
        setAreas((all) => all.map((one) => (one.copybook === asked ? { ...one, ...part, asked } : one)));
      if (!asked.text.trim()) return settle({ problems: [] });
      ask<CopybookLayouts>("POST", "/copybooks/layout", said(asked)).then(
        (found) => settle({ found, problems: [] }),
        (error: unknown) => settle({ problems: error instanceof ProblemError ? error.problems : [] }),
      );
    };
    const timer = setTimeout(() => waiting.forEach(lay), 250); // not with every key
    return () => clearTimeout(timer);
  }, [areas]);
  const layout = layoutOf(area);
  const atLine = (number: number) => {
    const item = layout?.items.findLast((one) => !one.member && one.line <= number);
    setLine(number);
    if (item) setChosen(item.path);
  };
  const choose = (item: ItemRow) => {
    setChosen(item.path);
    if (!item.member) setLine(item.line);
  };
  const show = (index: number) => {
    setAt(index);
    setLine(0);
    setChosen("");
  };
  const saved = () => {
    setAreas((all) => all.map((one) => ({ ...one, kept: one.copybook.name })));
    onSaved(areas[0]!.copybook.name);
  };
  const pick = (name: string) => {
    if (areas.length === 1) onPick(name);
    else change({ ...laidOutBy(list.find((one) => one.name === name)), record: "", sides: null, found: null });
  };
  const add = () => {
    setAreas(withAnother(areas));
    show(areas.length);
  };
  const take = (files: Files) => {
    const next = dropped(copybook, files);
    if (next) change({ copybook: next, sides: null });
  };
  const missing = area.problems.some((one) => one.code === "copybook.member");
  return (
    <div className="flex min-h-0 grow flex-col gap-2 px-5 py-3">
      <Head
        area={area}
        list={list}
        codePage={codePage}
        may={may}
        onPick={pick}
        onChange={change}
        onCodePage={setCodePage}
        onSave={() => setTaking(true)}
        {...(areas.length === 1 ? { onAdd: add } : {})}
      />
      {areas.length > 1 && (
        <Areas
          areas={areas}
          at={at}
          onPick={show}
          onChange={change}
          onAdd={add}
          onRemove={() => {
            setAreas(areas.filter((_, index) => index !== at));
            show(0);
          }}
        />
      )}
      <div className="grid min-h-0 grow grid-cols-[minmax(0,5fr)_minmax(0,6fr)] gap-4">
        <div className="flex min-h-0 flex-col gap-2">
          {(!copybook.text || missing) && (
            <DropFiles
              label={t("Copybooks")}
              hint={
                missing
                  ? t("or drop those here that this one copies.")
                  : t("or drop a copybook here, with those that it copies; or paste it below.")
              }
              names={[]}
              onTake={take}
            />
          )}
          <Source
            text={copybook.text}
            lit={line}
            wrong={Number(/^line (\d+)/.exec(area.problems[0]?.place ?? "")?.[1] ?? 0)}
            onChange={(text) => change({ copybook: { ...copybook, text } })}
            onLine={atLine}
          />
          <Problems problems={area.problems} />
        </div>
        <div className="min-h-0 overflow-auto">
          {layout ? (
            <LayoutTable
              layout={layout}
              chosen={chosen}
              sides={sidesOf(area)}
              use={area.use}
              onChoose={choose}
              onSides={(sides) => change({ sides })}
            />
          ) : (
            <p className="text-ink2">{t("The layout stands here as soon as there is a copybook.")}</p>
          )}
        </div>
      </div>
      {areas.some((one) => layoutOf(one)) && (
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
              areas={areas}
              held={held}
              known={known}
              may={may && areas.every((one) => one.copybook.name && layoutOf(one))}
              onSaved={saved}
            />
          ) : (
            layout && <Bytes key={at} copybook={copybook} record={layout.record} held={held} onLine={atLine} />
          )}
        </div>
      )}
      {taking && (
        <Taking
          copybook={copybook}
          onDone={(done) => {
            setTaking(false);
            if (done && areas.length === 1) saved();
            else if (done) change({ kept: copybook.name });
          }}
        />
      )}
    </div>
  );
}
