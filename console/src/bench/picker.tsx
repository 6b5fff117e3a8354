/** Real keys for an input that holds the key of an object. */
import { ListFilter } from "lucide-react";
import { createContext, useContext, useEffect, useRef, useState } from "react";
import type { ElementShape, KeyPage } from "../api";
import { useLoad } from "../load";
import { Problems } from "../parts/controls";
import { Panel } from "../parts/dialog";
import { rich, t } from "../text";

export const PickFrom = createContext<{ environment: string; service: string; operation: string } | null>(null);

export function PickKey({
  element,
  path,
  onPick,
}: {
  element: ElementShape;
  path: string;
  onPick: (key: string) => void;
}) {
  const from = useContext(PickFrom);
  const [open, setOpen] = useState(false);
  const [search, setSearch] = useState("");
  const field = useRef<HTMLInputElement>(null);
  useEffect(() => {
    if (open) setTimeout(() => field.current?.focus());
  }, [open]);
  const query =
    from && open
      ? `/services/${encodeURIComponent(from.service)}/operations/${encodeURIComponent(from.operation)}/keys?` +
        new URLSearchParams({ environment: from.environment, input: path, search }).toString()
      : null;
  const { data, error } = useLoad<KeyPage>(query);
  if (!from || !element.key_of) return null;
  const pick = (key: string) => {
    onPick(key);
    setOpen(false);
  };
  return (
    <>
      <button
        type="button"
        className="ibtn"
        aria-label={t("Pick a real {0} for {1}", element.key_of, element.name)}
        title={t("Pick a real {0}", element.key_of)}
        onClick={() => setOpen(true)}
      >
        <ListFilter size={16} strokeWidth={1.75} />
      </button>
      <Panel
        title={t("Pick a {0} from {1}", element.key_of, from.environment)}
        open={open}
        onClose={() => setOpen(false)}
        wide
      >
        <input
          ref={field}
          className="field"
          aria-label={t("Part of the key or of its texts")}
          placeholder={t("A part of the key or of its texts")}
          value={search}
          onChange={(event) => setSearch(event.target.value)}
          onKeyDown={(event) => {
            const first = data?.rows[0];
            if (event.key === "Enter" && first && data) {
              event.preventDefault();
              pick(first[data.key] ?? "");
            }
          }}
        />
        <div className="mt-2 -mx-5 min-h-40">
          {error && (
            <div className="px-5">
              <Problems problems={error.problems} />
            </div>
          )}
          {data && (
            <table className="tbl">
              <thead>
                <tr>
                  {data.columns.map((one) => (
                    <th key={one} scope="col">
                      {one}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {data.rows.map((row) => {
                  const key = row[data.key] ?? "";
                  return (
                    <tr key={key} className="cursor-pointer hover:bg-wash" onClick={() => pick(key)}>
                      {data.columns.map((one) =>
                        one === data.key ? (
                          <th key={one} scope="row">
                            <button type="button" className="act font-mono text-[12.5px]" onClick={() => pick(key)}>
                              {key}
                            </button>
                          </th>
                        ) : (
                          <td key={one}>{row[one] ?? ""}</td>
                        ),
                      )}
                    </tr>
                  );
                })}
              </tbody>
            </table>
          )}
          {data && !data.rows.length && (
            <p className="px-5 py-2 text-ink2">{rich("Nothing in {0} matches.", from.environment)}</p>
          )}
          {data?.more && <p className="px-5 py-2 text-xs text-ink2">{t("There are more; narrow the search.")}</p>}
        </div>
      </Panel>
    </>
  );
}
