/** A backend and the way there: defined where it is new, bound in an environment with its credential, and the way tried at once. */
import { useState } from "react";
import { Link } from "wouter";
import { ask, ProblemError, type CheckResult, type EngineEntry } from "../api";
import { useAct } from "../act";
import { useLoad } from "../load";
import { Problems, Select } from "../parts/controls";
import { TextField } from "../parts/dialog";
import { Form } from "../parts/form";
import { Mark } from "../parts/marks";
import { rich, t } from "../text";

/** A terminal host is seen at a terminal, and connected with what was learned there. */
const SEEN_FIRST = "terminal host";

const WAYS_IN: Record<string, string> = {
  none: t("nothing is presented"),
  basic: t("user and password (HTTP Basic)"),
  bearer: t("a token (HTTP Bearer)"),
  "user-token": t("a user token in the message (WS-Security)"),
};

/** `families` are those that are offered, all when empty. */
export function ConnectBackend({
  environment,
  families = [],
  onDone,
}: {
  environment: string;
  families?: string[];
  onDone: (name: string) => void;
}) {
  const act = useAct();
  const engines = (useLoad<EngineEntry[]>("/engines").data ?? []).filter(
    (one) => one.family !== SEEN_FIRST && (!families.length || families.includes(one.family)),
  );
  const [engine, setEngine] = useState("");
  const [called, setCalled] = useState("");
  const [place, setPlace] = useState("");
  const [database, setDatabase] = useState("");
  const [user, setUser] = useState("");
  const [secret, setSecret] = useState("");
  const [signIn, setSignIn] = useState("none");
  const [tls, setTls] = useState("off");
  const [readOnly, setReadOnly] = useState(false);
  const [stages, setStages] = useState<CheckResult["stages"]>([]);
  // Names that this form made: a second try, with what was wrong corrected, is no work of somebody else.
  const [made, setMade] = useState<string[]>([]);
  const chosen = engines.find((one) => one.engine === engine) ?? engines.find((one) => !one.is_file);
  if (!chosen) return null;
  const has = (setting: string) => chosen.settings.includes(setting);
  const web = has("sign_in");
  const suggested =
    (chosen.is_file ? place.replace(/\/+$/, "").replace(/^.*\//, "").replace(/\..*$/, "") : database) || chosen.engine;
  const name = called || suggested;
  const address = place || (web ? "" : `127.0.0.1:${chosen.port ?? ""}`);
  const signs = has("credential") && (web ? signIn !== "none" : Boolean(user || secret));
  const connect = () =>
    act.run(async () => {
      setStages([]);
      const known = await ask<{ name: string }[]>("GET", "/credentials");
      const ends = await ask<{ backend: string }[]>("GET", "/backends");
      const taken = [...(signs ? known.map((one) => one.name) : []), ...ends.map((one) => one.backend)].includes(name);
      if (taken && !made.includes(name))
        throw new ProblemError(
          [
            {
              code: "connect.taken",
              kind: "conflict",
              message: t("There is a backend or a credential {0} already.", name),
              mend: t(
                "Give this one another name. What is there is changed with its own form, or where credentials are.",
              ),
            },
          ],
          409,
        );
      setMade((old) => [...old, name]);
      if (signs) {
        const kept = signIn === "bearer" ? { secret } : { secret, user };
        await (known.some((one) => one.name === name)
          ? ask("POST", `/credentials/${name}/rotation`, { ...kept, overlap_hours: 0 })
          : ask("POST", "/credentials", { name, kind: signIn === "bearer" ? "token" : "password", ...kept }));
      }
      const binding = {
        ...(chosen.is_file ? { file: place } : { address }),
        ...(has("database") ? { database } : {}),
        ...(signs ? { credential: name } : {}),
        ...(web && signIn !== "none" ? { sign_in: signIn } : {}),
        ...(has("tls") && !web && tls !== "off" ? { tls } : {}),
        ...(readOnly ? { read_only: true } : {}),
      };
      await ask("POST", `/environments/${environment}/backends`, { name, engine: chosen.engine, binding });
      const [checked] = await ask<CheckResult[]>("POST", `/environments/${environment}/check`, { backend: name });
      setStages(checked?.stages ?? []);
      if (checked?.passed) onDone(name);
    });
  const failed = stages.find((one) => one.outcome === "failed");
  return (
    <Form onSend={() => void connect()} word={t("Connect and try the way")} busy={act.busy}>
      <div>
        <span className="lbl">{t("What is it")}</span>
        <Select
          label={t("What is it")}
          value={chosen.engine}
          onChange={(next) => {
            setEngine(next);
            setStages([]);
          }}
          options={engines.map((one) => ({ value: one.engine, word: one.title }))}
        />
      </div>
      {chosen.is_file ? (
        <TextField
          label={chosen.is_folder ? t("Its folder, below the data folder") : t("Its file, below the data folder")}
          value={place}
          onChange={setPlace}
          required
        />
      ) : (
        <TextField
          label={t("Its address")}
          value={address}
          placeholder={web ? "http://…" : ""}
          onChange={setPlace}
          required
        />
      )}
      {has("database") && <TextField label={t("The database")} value={database} onChange={setDatabase} required />}
      {web && (
        <div>
          <span className="lbl">{t("How Bricola signs in")}</span>
          <Select
            label={t("How Bricola signs in")}
            value={signIn}
            onChange={setSignIn}
            options={Object.entries(WAYS_IN)
              .filter(([way]) => way !== "user-token" || has("contract_address"))
              .map(([value, word]) => ({ value, word }))}
          />
        </div>
      )}
      {has("credential") && (!web || signIn !== "none") && (
        <>
          {signIn !== "bearer" && (
            <TextField
              label={t("The user that Bricola signs on as")}
              value={user}
              onChange={setUser}
              autoComplete="off"
            />
          )}
          <TextField
            label={signIn === "bearer" ? t("The token") : t("The password of that user")}
            type="password"
            value={secret}
            onChange={setSecret}
            autoComplete="off"
          />
        </>
      )}
      {has("tls") && !web && (
        <div>
          <span className="lbl">{t("The way there")}</span>
          <Select
            label={t("The way there")}
            value={tls}
            onChange={setTls}
            options={[
              { value: "off", word: t("as it is") },
              { value: "encrypt", word: t("encrypted") },
              { value: "verify", word: t("encrypted, with its certificate verified") },
            ]}
          />
        </div>
      )}
      {has("read_only") && (
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="tick"
            checked={readOnly}
            onChange={(event) => setReadOnly(event.target.checked)}
          />
          {t("Nothing is written through it")}
        </label>
      )}
      <TextField
        label={t("What it is called here")}
        hint={t("Objects, queries and environments name it so.")}
        value={name}
        onChange={setCalled}
        required
      />
      {failed && (
        <div role="alert">
          <p className="font-semibold">{t("It stops at: {0}", failed.stage)}</p>
          {failed.problem && <Problems problems={[failed.problem]} />}
        </div>
      )}
      {!failed && stages.length > 0 && (
        <p role="status" className="flex items-center gap-1.5">
          <Mark name="serving" />
          {t("The way is open: {0}.", stages.map((one) => one.stage).join(", "))}
        </p>
      )}
      <Problems problems={act.problems} />
      {!families.length && (
        <p className="text-ink2">
          {rich(
            "A terminal host is seen first: {0}",
            <Link className="act" href="/screens/record">
              {t("open a terminal at its address")}
            </Link>,
          )}
        </p>
      )}
    </Form>
  );
}
