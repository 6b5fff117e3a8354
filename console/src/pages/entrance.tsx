/** Signing in, or making the first user with the one-time address. */
import { useEffect, useState, type FormEvent } from "react";
import { ask, ProblemError, type Problem } from "../api";
import { Problems } from "../parts/controls";
import { Logo } from "../parts/marks";
import { t } from "../text";

export default function Entrance({ onEnter }: { onEnter: () => void }) {
  const code = new URLSearchParams(location.search).get("code") ?? "";
  const settingUp = location.pathname === "/setup" && code !== "";
  const [waiting, setWaiting] = useState(false);
  const [organisation, setOrganisation] = useState("");
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [problems, setProblems] = useState<Problem[]>([]);
  const [busy, setBusy] = useState(false);
  useEffect(() => {
    void ask<{ setup: boolean; organisation: string }>("GET", "/state").then(
      (state) => {
        setWaiting(state.setup);
        setOrganisation(state.organisation);
      },
      () => undefined,
    );
  }, []);
  const enter = async (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    try {
      await ask("POST", settingUp ? "/setup" : "/session", settingUp ? { code, name, password } : { name, password });
      if (settingUp) history.replaceState(null, "", "/start");
      onEnter();
    } catch (error) {
      if (error instanceof ProblemError) setProblems(error.problems);
      setBusy(false);
    }
  };
  return (
    <div className="grid min-h-screen grid-rows-[4px_1fr] bg-frame">
      <div className="lens-both" aria-hidden="true" />
      <main className="flex justify-center px-4 pt-[14vh]">
        <form
          onSubmit={(event) => void enter(event)}
          className="h-max w-[344px] rounded-[6px] border border-line bg-sheet px-6 pt-5 pb-6"
        >
          <div className="mb-4 flex items-center gap-2">
            <Logo />
            <span className="text-[17px] font-bold">{t("Bricola")}</span>
            {organisation && <span className="ml-auto truncate text-ink2">{organisation}</span>}
          </div>
          <h1 className="mb-1 text-[20px] leading-6 font-semibold">
            {settingUp ? t("Make the first user") : t("Sign in")}
          </h1>
          {settingUp && <p className="mb-2 text-ink2">{t("This user is an admin. The address works once.")}</p>}
          {!settingUp && waiting && (
            <p className="mb-2 text-ink2">
              {t(
                "There is no user yet. Open the set-up address that the service printed when it started, or set up in a terminal: bricola start.",
              )}
            </p>
          )}
          <div className="mt-3 flex flex-col gap-3">
            <div>
              <label className="lbl" htmlFor="name">
                {t("Name")}
              </label>
              <input
                id="name"
                className="field"
                autoComplete="username"
                required
                value={name}
                onChange={(event) => setName(event.target.value)}
              />
            </div>
            <div>
              <label className="lbl" htmlFor="password">
                {t("Password")}
              </label>
              <input
                id="password"
                className="field"
                type="password"
                required
                minLength={settingUp ? 10 : 1}
                autoComplete={settingUp ? "new-password" : "current-password"}
                value={password}
                onChange={(event) => setPassword(event.target.value)}
              />
              {settingUp && <p className="mt-0.5 text-xs text-ink3">{t("at least 10 characters")}</p>}
            </div>
            {problems.length > 0 && <Problems problems={problems} />}
            <button type="submit" className="btn btn-main" aria-disabled={busy}>
              {settingUp ? t("Make user and sign in") : t("Sign in")}
            </button>
          </div>
        </form>
      </main>
    </div>
  );
}
