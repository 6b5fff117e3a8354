/** Screen flows: their films, move by move, and whether the host still looks like them. */
import { Plus } from "lucide-react";
import { useState } from "react";
import { Link } from "wouter";
import { useAddress } from "../../address";
import { ask, type Overview } from "../../api";
import { useAct } from "../../act";
import { useLens, within } from "../../lens";
import { useLoad } from "../../load";
import { Problems } from "../../parts/controls";
import { EnvTag, Mark } from "../../parts/marks";
import { HostView } from "./host";
import { MarkLayer } from "./marks";
import { overlaid } from "./typing";
import type { Film, FilmCheck, FlowRow } from "./types";
import { mayAtLeast, useSession } from "../../session";
import { plural, when } from "../../formats";
import { rich, t } from "../../text";

const STAGES: Record<string, string> = {
  "sign-on": t("Sign on"),
  task: t("Task"),
  back: t("Back to the start"),
  "sign-off": t("Sign off"),
};

export default function ScreensPage() {
  const person = useSession();
  const [view] = useLens();
  const [search, setSearch] = useAddress();
  const flows = useLoad<FlowRow[]>("/screens");
  const chosen = flows.data?.find((one) => one.flow === search.get("flow")) ?? flows.data?.[0];
  const film = useLoad<Film>(
    chosen?.film && mayAtLeast(person, "operator")
      ? `/screens/${encodeURIComponent(chosen.flow)}/film?at=${encodeURIComponent(chosen.film.at)}`
      : null,
  );
  const [at, setAt] = useState(0);
  const act = useAct();
  const overview = useLoad<Overview>("/overview");
  const protectedOnes = new Set(
    (overview.data?.environments ?? []).filter((one) => one.protected).map((one) => one.name),
  );
  const shots = film.data?.shots ?? [];
  const index = Math.min(at, Math.max(0, shots.length - 1));
  const shot = shots[index];
  const screen = shot && film.data?.screens[shot.before];
  const hold = (environment: string) =>
    void act.run(async () => {
      await ask<FilmCheck[]>(
        "POST",
        `/screen-checks/${encodeURIComponent(environment)}?flow=${encodeURIComponent(chosen?.flow ?? "")}`,
      );
      flows.reload();
    });
  const again = (environment: string) =>
    void act.run(async () => {
      await ask("POST", `/screens/${encodeURIComponent(chosen?.flow ?? "")}/film/${encodeURIComponent(environment)}`, {
        inputs: film.data?.inputs ?? {},
      });
      flows.reload();
    });

  if (flows.error && !flows.data)
    return (
      <div className="p-5">
        <Problems problems={flows.error.problems} />
      </div>
    );
  if (!flows.data) return null;
  return (
    <div className="grid min-h-0 grow grid-cols-[236px_minmax(0,1fr)_290px]">
      <nav aria-label={t("Screen flows")} className="min-h-0 overflow-auto border-r border-line bg-inset">
        <div className="flex items-center px-4 pt-3 pb-2">
          <h1 className="text-[20px] leading-6 font-semibold">{t("Screens")}</h1>
          {mayAtLeast(person, "integrator") && (
            <Link className="btn ml-auto" href={within("/screens/record", view)}>
              {rich("{0}Record", <Plus size={15} />)}
            </Link>
          )}
        </div>
        {flows.data.map((one) => {
          const bad = one.checks.find((check) => !check.passed);
          return (
            <button
              key={one.flow}
              type="button"
              aria-pressed={one === chosen}
              onClick={() => {
                setAt(0);
                setSearch({ flow: one.flow });
              }}
              className={`block w-full border-t border-line px-4 py-1.5 text-left last:border-b ${one === chosen ? "chosen" : ""}`}
            >
              <span className="flex items-center gap-1.5">
                <Mark name={bad ? "risk" : one.film ? "serving" : "none"} />
                <b className="truncate font-mono text-[12.5px] font-semibold">{one.flow}</b>
              </span>
              <span className="block truncate text-xs text-ink2">
                {one.backend}, {one.engine}
                {one.services.length ? t(", in {0}", one.services.join(", ")) : t(", not published")}
              </span>
            </button>
          );
        })}
        {!flows.data.length && (
          <p className="px-4 py-2 text-ink2">{t("No screen flow yet. Record one: walk through the task once.")}</p>
        )}
      </nav>
      <section aria-label={t("Film")} className="flex min-h-0 min-w-0 flex-col gap-2 overflow-auto px-4 py-3">
        {chosen && (
          <div className="flex items-center gap-3">
            <div>
              <h2 className="text-[15px] font-semibold">{chosen.flow}</h2>
              <p className="text-xs text-ink2">{chosen.description || t("No description")}</p>
            </div>
            <span className="ml-auto text-xs text-ink2">
              {chosen.writes ? t("Writes on the host") : t("Only reads")}
            </span>
          </div>
        )}
        {chosen && !chosen.film && (
          <p className="text-ink2">{t("It has no film yet. Film it where the host is, at the right.")}</p>
        )}
        {screen && shot && (
          <>
            <HostView
              screen={overlaid(screen, shot.typed)}
              marks={
                <MarkLayer
                  screen={screen}
                  places={(chosen?.places ?? []).filter((one) => one.screen === shot.known)}
                  lists={(chosen?.lists ?? []).filter((one) => one.screen === shot.known)}
                  selected={undefined}
                />
              }
              cursor={screen.cursor}
              name={t("Move {0}, {1}", index + 1, shot.known)}
              status={
                <>
                  <b className="font-semibold text-(--term-hi)">{STAGES[shot.stage] ?? shot.stage}</b>
                  <span>{shot.known || t("a screen without a name")}</span>
                  <span>{rich("{0} brings {1}", shot.key, shot.came || t("a screen without a name"))}</span>
                </>
              }
            />
            <div className="flex items-center gap-2">
              <button
                type="button"
                className="btn"
                aria-disabled={index === 0}
                onClick={() => setAt(Math.max(0, index - 1))}
              >
                {t("Move before")}
              </button>
              <button
                type="button"
                className="btn"
                aria-disabled={index + 1 >= shots.length}
                onClick={() => setAt(Math.min(shots.length - 1, index + 1))}
              >
                {t("Next move")}
              </button>
              <span className="text-xs text-ink2">
                {rich(
                  "Move {0} of {1}, filmed in {2} {3} by {4}",
                  index + 1,
                  shots.length,
                  film.data?.environment,
                  when(film.data?.at ?? ""),
                  film.data?.author,
                )}
              </span>
            </div>
          </>
        )}
        {film.error && <Problems problems={film.error.problems} />}
        {chosen?.film && !mayAtLeast(person, "operator") && (
          <p className="text-ink2">{t("Films show what a host showed; looking at them needs the role operator.")}</p>
        )}
      </section>
      <aside aria-label={t("Moves and checks")} className="min-h-0 overflow-auto border-l border-line">
        {chosen && (
          <>
            <h2 className="px-4 pt-3 pb-1 font-semibold">{t("On the hosts")}</h2>
            {chosen.environments.map((environment) => {
              const check = chosen.checks.find((one) => one.environment === environment);
              return (
                <div key={environment} className="border-t border-line px-4 py-2">
                  <p className="flex items-center gap-2">
                    <EnvTag name={environment} isProtected={protectedOnes.has(environment)} />
                    <span className="flex items-center gap-1.5">
                      <Mark name={!check ? "none" : check.passed ? "serving" : "risk"} />
                      {!check ? t("not checked yet") : check.passed ? t("as filmed") : t("not as filmed")}
                    </span>
                    {check && <span className="ml-auto text-xs text-ink3">{when(check.at)}</span>}
                  </p>
                  {check?.moved.map((one, number) => (
                    <p key={number} className="mt-1 text-xs">
                      {rich(
                        "{0}: {1}, expected {2}: {3}",
                        <b className="font-mono">{one.screen}</b>,
                        one.what,
                        one.expected,
                        <span className="text-warn">{one.found}</span>,
                      )}
                    </p>
                  ))}
                  {check?.stopped && (
                    <p className="mt-1 text-xs text-bad">
                      {check.stopped.message} {check.stopped.expected && t("Expected {0}, ", check.stopped.expected)}
                      {check.stopped.found && t("found {0}.", check.stopped.found)}
                    </p>
                  )}
                  <p className="mt-1.5 flex gap-2">
                    {mayAtLeast(person, "operator") && chosen.film && !chosen.writes && (
                      <button type="button" className="btn" aria-disabled={act.busy} onClick={() => hold(environment)}>
                        {t("Check now")}
                      </button>
                    )}
                    {mayAtLeast(person, "integrator") && !chosen.writes && (
                      <button type="button" className="btn" aria-disabled={act.busy} onClick={() => again(environment)}>
                        {chosen.film ? t("Film again") : t("Film it")}
                      </button>
                    )}
                  </p>
                  {chosen.writes && (
                    <p className="text-xs text-ink2">
                      {rich(
                        "It writes on the host, so walking it takes consent: {0}",
                        <span className="font-mono">
                          {rich("bricola screens check {0} {1} --writes", environment, chosen.flow)}
                        </span>,
                      )}
                    </p>
                  )}
                </div>
              );
            })}
            {act.problems.length > 0 && (
              <div className="px-4 py-2">
                <Problems problems={act.problems} />
              </div>
            )}
            <h2 className="border-t border-line px-4 pt-3 pb-1 font-semibold">
              {rich(
                "Moves {0}",
                <span className="text-xs font-normal text-ink2">
                  {rich("{0} in the film", plural(shots.length, "move"))}
                </span>,
              )}
            </h2>
            <ol>
              {shots.map((one, number) => (
                <li key={number}>
                  <button
                    type="button"
                    aria-pressed={number === index}
                    onClick={() => setAt(number)}
                    className={`flex w-full items-baseline gap-2 border-t border-line px-4 py-1 text-left ${number === index ? "chosen" : ""}`}
                  >
                    <span className="w-5 shrink-0 text-right text-xs text-ink3">{number + 1}</span>
                    <span className="min-w-0 truncate">
                      {rich(
                        "{0} on {1}",
                        <span className="font-mono text-[12.5px]">{one.key}</span>,
                        <span className="font-mono text-[12.5px]">{one.known || "?"}</span>,
                      )}
                    </span>
                    <span className="ml-auto shrink-0 text-xs text-ink2">
                      {one.stage === "task" ? one.came : STAGES[one.stage]}
                    </span>
                  </button>
                </li>
              ))}
            </ol>
          </>
        )}
      </aside>
    </div>
  );
}
