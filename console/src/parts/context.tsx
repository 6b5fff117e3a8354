/** What calls in an environment take by context: the company, the site, the language, by name. */
import { t } from "../text";

export function ContextWords({ context }: { context: Record<string, string> | undefined }) {
  const said = Object.entries(context ?? {});
  if (!said.length) return null;
  return (
    <span
      className="flex min-w-0 items-center gap-2 text-xs text-ink2"
      title={t("The context of calls: {0}", said.map(([name, value]) => `${name} ${value}`).join(", "))}
    >
      {said.map(([name, value]) => (
        <span key={name} className="truncate">
          {name} <b className="font-semibold text-ink">{value}</b>
        </span>
      ))}
    </span>
  );
}
