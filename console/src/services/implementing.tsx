/** What runs an operation of somebody's contract, and from where each part comes: looked at first, and saved as a draft. */
import { useId, useState } from "react";
import { ask, type Implementation } from "../api";
import { useAct } from "../act";
import { Problems } from "../parts/controls";
import { t } from "../text";

type Lines = Record<string, string>;
type Part = Implementation["map_in"]["parts"][number];

const lines = (parts: Part[]): Lines =>
  Object.fromEntries(parts.filter((one) => one.by === "line").map((one) => [one.path, one.source]));

const given = (texts: Lines): Lines =>
  Object.fromEntries(Object.entries(texts).filter(([, text]) => text.trim() !== ""));

export function Implementing({
  service,
  operation,
  runs,
  onChanged,
}: {
  service: string;
  operation: string;
  runs: string;
  onChanged: () => void;
}) {
  const [found, setFound] = useState<Implementation>();
  const [wanted, setWanted] = useState(runs);
  const [into, setInto] = useState<Lines>({});
  const [outOf, setOutOf] = useState<Lines>({});
  const act = useAct();
  const offers = useId();
  const look = (save: boolean, fresh: boolean) =>
    void act.run(async () => {
      const path = [service, "operations", operation, "map"].map(encodeURIComponent).join("/");
      const body = fresh ? { runs: wanted, save } : { runs: wanted, map_in: given(into), map_out: given(outOf), save };
      const answer = await ask<Implementation>("POST", `/services/${path}`, body);
      setFound(answer);
      setInto(lines(answer.map_in.parts));
      setOutOf(lines(answer.map_out.parts));
      if (save) onChanged();
    });
  const other = found !== undefined && found.runs !== wanted;
  return (
    <section aria-label={t("What runs it")} className="mt-2 border-t border-line2 px-5 py-2.5">
      <form
        className="flex flex-wrap items-center gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          if (!act.busy) look(false, other || !found);
        }}
      >
        <label className="font-semibold" htmlFor={`${offers}-runs`}>
          {t("Run by")}
        </label>
        <input
          id={`${offers}-runs`}
          list={offers}
          className="field w-72! font-mono"
          value={wanted}
          onChange={(event) => setWanted(event.target.value)}
        />
        <datalist id={offers}>
          {found?.offers.map((one) => (
            <option key={one} value={one} />
          ))}
        </datalist>
        <button type="submit" className="btn" aria-disabled={act.busy}>
          {found && !other ? t("Look again") : t("Look at the map")}
        </button>
        {found && !other && (
          <button
            type="button"
            className="btn btn-main"
            aria-disabled={act.busy}
            onClick={() => {
              if (!act.busy) look(true, false);
            }}
          >
            {t("Save as draft")}
          </button>
        )}
        {found && !other && found.changes.some((one) => one.action !== "unchanged") && (
          <span className="font-semibold text-ok">{t("Saved, not released.")}</span>
        )}
      </form>
      {act.problems.length > 0 && <Problems problems={act.problems} />}
      {found && !other && (
        <>
          {found.problems.length > 0 && <Problems problems={found.problems} />}
          {found.same_contract ? (
            <p className="mt-1 text-ink2">{t("It follows the same contract, so there is nothing to map.")}</p>
          ) : (
            <>
              <MapTable
                title={t("What it runs is filled from the request")}
                map={found.map_in}
                texts={into}
                onChange={(path, text) => setInto({ ...into, [path]: text })}
              />
              <MapTable
                title={t("The answer is filled from what it gives")}
                map={found.map_out}
                texts={outOf}
                onChange={(path, text) => setOutOf({ ...outOf, [path]: text })}
              />
            </>
          )}
        </>
      )}
    </section>
  );
}

function MapTable({
  title,
  map,
  texts,
  onChange,
}: {
  title: string;
  map: Implementation["map_in"];
  texts: Lines;
  onChange: (path: string, text: string) => void;
}) {
  const fits = useId();
  return (
    <table className="tbl mt-2 table-fixed" aria-label={title}>
      <colgroup>
        <col />
        <col className="w-[104px]" />
        <col className="w-[210px]" />
        <col className="w-[104px]" />
      </colgroup>
      <thead>
        <tr>
          <th scope="col">{title}</th>
          <th scope="col">{t("Type")}</th>
          <th scope="col">{t("From")}</th>
          <th scope="col" />
        </tr>
      </thead>
      <tbody>
        {map.parts.map((part, index) => {
          const named = part.by === "name" ? part.source : "";
          const empty = !named && part.by !== "own" && !texts[part.path];
          const missing = map.missing.some((one) => one === part.path || part.path.startsWith(`${one}.`));
          return (
            <tr key={part.path}>
              <th scope="row" className="truncate font-mono text-[12.5px]" title={part.path}>
                {part.path}
              </th>
              <td className="truncate text-ink2" title={part.type}>
                {part.type}
              </td>
              <td className="py-1!">
                <input
                  aria-label={t("From where {0} comes", part.path)}
                  list={`${fits}-${index}`}
                  className="field h-6! font-mono text-[12.5px]!"
                  value={texts[part.path] ?? ""}
                  placeholder={named}
                  onChange={(event) => onChange(part.path, event.target.value)}
                />
                <datalist id={`${fits}-${index}`}>
                  {part.fits.map((one) => (
                    <option key={one} value={one} />
                  ))}
                </datalist>
              </td>
              <td className="text-xs">
                {texts[part.path] ? (
                  t("chosen")
                ) : named ? (
                  <span className="text-ink2">{t("same name")}</span>
                ) : part.by === "own" ? (
                  <span className="text-ink2">{t("the contract’s own")}</span>
                ) : empty && missing && part.required ? (
                  <span className="font-semibold text-warn">{t("required")}</span>
                ) : (
                  <span className="text-ink3">{t("left out")}</span>
                )}
              </td>
            </tr>
          );
        })}
        {!map.parts.length && (
          <tr>
            <td colSpan={4} className="text-ink2">
              {t("Nothing.")}
            </td>
          </tr>
        )}
      </tbody>
    </table>
  );
}
