/** All services: what each is made of, where it runs and how it fares there. */
import { Plus } from "lucide-react";
import { useState } from "react";
import { Link } from "wouter";
import type { Overview, Place, ServiceRow } from "../api";
import { kindsOf } from "../kinds";
import { ALL, useLens, within } from "../lens";
import { useLoad } from "../load";
import { NotLoaded } from "../parts/controls";
import { EnvTag, Mark, STATE_MARK } from "../parts/marks";
import { mayAtLeast, useSession } from "../session";
import { rich, t } from "../text";

export default function ServicesPage() {
  const may = mayAtLeast(useSession(), "integrator");
  const [view] = useLens();
  const { data, error } = useLoad<Overview>("/overview", 10);
  const [narrow, setNarrow] = useState("");
  if (error && !data) return <NotLoaded error={error} />;
  if (!data) return null;
  const environments = data.environments.filter((one) => view === ALL || one.name === view);
  const words = narrow.toLowerCase().split(/\s+/);
  const services = data.services.filter((one) =>
    words.every((word) =>
      `${one.name} ${one.description} ${one.group} ${one.backends.join(" ")}`.toLowerCase().includes(word),
    ),
  );
  return (
    <>
      <div className="flex h-[52px] shrink-0 items-center gap-3 px-5">
        <h1 className="text-[20px] leading-6 font-semibold">{t("Services")}</h1>
        <input
          data-narrow
          className="field ml-3 w-56!"
          placeholder={t("Narrow by name, group or backend")}
          aria-label={t("Narrow by name, group or backend")}
          value={narrow}
          onChange={(event) => setNarrow(event.target.value)}
        />
        <span className="ml-auto flex gap-2">
          <Link className="btn" href={within("/definitions", view)}>
            {t("All definitions")}
          </Link>
          {may && (
            <>
              <Link className="btn" href={within("/definitions/database", view)}>
                {t("From a database")}
              </Link>
              <Link className="btn btn-main" href={within("/definitions?new=service", view)}>
                {rich("{0}New service", <Plus size={15} />)}
              </Link>
            </>
          )}
        </span>
      </div>
      <div className="min-h-0 grow overflow-auto">
        <table className="tbl w-full">
          <thead>
            <tr>
              <th scope="col">{t("Service")}</th>
              <th scope="col">{t("Made of")}</th>
              <th scope="col">{t("Group")}</th>
              <th scope="col">{t("Draft")}</th>
              {environments.map((one) => (
                <th scope="col" key={one.name}>
                  <EnvTag name={one.name} isProtected={one.protected} />
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {services.map((one) => (
              <Row key={one.name} service={one} environments={environments.map((each) => each.name)} view={view} />
            ))}
          </tbody>
        </table>
        {!services.length && (
          <p className="px-5 py-3 text-ink2">
            {data.services.length ? t("Nothing matches.") : t("There is no service yet.")}
          </p>
        )}
      </div>
    </>
  );
}

function Row({ service, environments, view }: { service: ServiceRow; environments: string[]; view: string }) {
  return (
    <tr className="[&>*]:h-[44px]!">
      <th scope="row">
        <Link href={within(`/services/${encodeURIComponent(service.name)}`, view)} className="font-semibold">
          {service.name}
        </Link>
        <span className="block max-w-[34ch] truncate text-xs font-normal text-ink2" title={service.description}>
          {service.description}
        </span>
      </th>
      <td>
        <span className="flex items-center gap-2">
          {kindsOf(service.sources).map((one) => (
            <span key={one.kind} className="flex items-center gap-1 whitespace-nowrap">
              <one.icon size={15} strokeWidth={1.75} className="text-ink3" />
              {one.word}
            </span>
          ))}
        </span>
      </td>
      <td>{service.group}</td>
      <td>{service.draft === "edited" ? t("edited") : <span className="text-ink3">{t("as released")}</span>}</td>
      {environments.map((name) => (
        <td key={name}>
          {service.deployments
            .filter((one) => one.environment === name)
            .map((one) => (
              <Where key={one.segment} at={one} several={service.version > 1 || one.segment !== service.name} />
            ))}
        </td>
      ))}
    </tr>
  );
}

/** A service in an environment: its state, its release, and what ails it. */
function Where({ at, several }: { at: Place; several: boolean }) {
  const ails = (at.ails ?? []).map((one) => one.words).join(" ");
  return (
    <span className="flex items-center gap-1.5 whitespace-nowrap" title={ails || undefined}>
      <Mark name={STATE_MARK[at.state] ?? "none"} />
      {at.state}
      {at.release !== undefined && (
        <span className="text-ink2">
          {several ? t("release {0} of version {1}", at.release, at.version) : t("release {0}", at.release)}
        </span>
      )}
      {at.newest === false && <span className="text-xs text-ink3">{t("a newer one waits")}</span>}
    </span>
  );
}
