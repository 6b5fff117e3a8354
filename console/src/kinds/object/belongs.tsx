/** What belongs to an object beside its fields: key, change token, parents, children and finders. */
import { type Plain } from "../../api";
import { rich, t } from "../../text";

export function Belongs({ definition }: { definition: Plain }) {
  const parents = Object.entries((definition.parents ?? {}) as Record<string, { table: string }>);
  const children = Object.entries(
    (definition.children ?? {}) as Record<string, { object: string; read_only?: boolean }>,
  );
  const finders = Object.entries(
    (definition.finders ?? {}) as Record<
      string,
      { filters?: Record<string, { field: string; compare?: string }>; order?: string | string[] }
    >,
  );
  const token = definition.change_token;
  return (
    <dl className="grid grid-cols-[132px_minmax(0,1fr)] gap-y-1 px-5 py-3">
      <dt className="text-ink2">{t("Key")}</dt>
      <dd className="font-mono text-[12.5px]">
        {([] as string[]).concat(definition.key as string | string[]).join(", ")}
      </dd>
      <dt className="text-ink2">{t("Change token")}</dt>
      <dd>
        {typeof token === "string" ? (
          <>{rich("the column {0}", <span className="font-mono text-[12.5px]">{token}</span>)}</>
        ) : token ? (
          t("worked out from the row and its children")
        ) : (
          t("none")
        )}
      </dd>
      {parents.map(([name, one]) => (
        <div key={name} className="contents">
          <dt className="text-ink2">{t("Joined")}</dt>
          <dd>{rich("{0}, table {1}", <span className="font-mono text-[12.5px]">{name}</span>, one.table)}</dd>
        </div>
      ))}
      {children.map(([name, one]) => (
        <div key={name} className="contents">
          <dt className="text-ink2">{t("Belongs to it")}</dt>
          <dd>
            {rich(
              "{0}, rows of {1}{2}",
              <span className="font-mono text-[12.5px]">{name}</span>,
              one.object,
              one.read_only && t(", read only"),
            )}
          </dd>
        </div>
      ))}
      {finders.map(([name, one]) => (
        <div key={name} className="contents">
          <dt className="text-ink2">{t("Finder")}</dt>
          <dd>
            {rich(
              "{0} by {1}",
              <span className="font-mono text-[12.5px]">{name}</span>,
              Object.entries(one.filters ?? {})
                .map(([filter, what]) => `${filter}${what.compare ? ` (${what.compare})` : ""}`)
                .join(", ") || t("nothing"),
            )}
          </dd>
        </div>
      ))}
    </dl>
  );
}
