/** Credentials: secrets that Bricola presents to backends. They come in here and are never shown. */
import { useState } from "react";
import { ask, type Credential } from "../api";
import { useAct } from "../act";
import { useLoad } from "../load";
import { ActsHead, Problems, Select } from "../parts/controls";
import { Labelled, TextField, Panel } from "../parts/dialog";
import { Form } from "../parts/form";
import { Mark } from "../parts/marks";
import { mayAtLeast, useSession } from "../session";
import { daysUntil, until, when } from "../formats";
import { rich, t } from "../text";

export function Credentials() {
  const admin = mayAtLeast(useSession(), "admin");
  const { data, reload } = useLoad<Credential[]>("/credentials", 10);
  const act = useAct();
  const [editing, setEditing] = useState<Credential | "new" | null>(null);
  const [describing, setDescribing] = useState<Credential | null>(null);
  if (!data) return null;
  const why = admin ? undefined : t("Changing credentials needs the role admin");
  const remove = (name: string) =>
    act.run(async () => {
      await ask("DELETE", `/credentials/${name}`);
      reload();
    });
  return (
    <>
      <div className="flex items-center gap-3 px-5 py-2">
        <p className="text-ink2">
          {t("What Bricola presents to backends. Sealed in the store, used by name, never shown.")}
        </p>
        <button
          type="button"
          className="btn btn-main ml-auto"
          aria-disabled={!admin}
          title={why}
          onClick={() => {
            if (admin) setEditing("new");
          }}
        >
          {t("New credential")}
        </button>
      </div>
      {act.problems.length > 0 && (
        <div className="px-5 pb-2">
          <Problems problems={act.problems} />
        </div>
      )}
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col">{t("Credential")}</th>
            <th scope="col">{t("Kind")}</th>
            <th scope="col">{t("Account")}</th>
            <th scope="col">{t("Expires")}</th>
            <th scope="col">{t("Last used")}</th>
            <th scope="col">{t("Renewed")}</th>
            <th scope="col">{t("Who uses it")}</th>
            <ActsHead />
          </tr>
        </thead>
        <tbody>
          {data.map((one) => (
            <tr key={one.name} className="whitespace-nowrap">
              <th scope="row" className="font-semibold">
                {one.name}
              </th>
              <td>{one.kind}</td>
              <td>
                {one.user || "–"}
                {one.account && <span className="block text-xs text-ink2">{one.account}</span>}
                {one.cost && <span className="block text-xs text-ink2">{one.cost}</span>}
              </td>
              <td>
                {one.expires_at ? <Expiry at={one.expires_at} /> : <span className="text-ink3">{t("never")}</span>}
              </td>
              <td>{one.last_used_at ? when(one.last_used_at) : <span className="text-ink3">{t("never")}</span>}</td>
              <td>
                {one.rotated_at ? t("{0} by {1}", when(one.rotated_at), one.rotated_by) : ""}
                {one.overlap_until && (
                  <span className="block text-xs text-ink2">
                    {rich("old one tried until {0}", when(one.overlap_until))}
                  </span>
                )}
              </td>
              <td>
                {one.used_by.map((use) => (
                  <span key={`${use.backend} ${use.environment}`} className="flex items-center gap-1.5">
                    {t("{0} in {1}", use.backend, use.environment)}
                    {use.signs_on_as && use.signs_on_as !== one.user && (
                      <span className="text-xs text-ink2">{t("as {0}", use.signs_on_as)}</span>
                    )}
                    {!!use.powers?.length && (
                      <span
                        className="flex items-center gap-1 text-xs text-warn"
                        title={t(
                          "What the backend says that this account may do beyond rows of tables; calls need a technical one",
                        )}
                      >
                        <Mark name="risk" />
                        {use.powers.join(", ")}
                      </span>
                    )}
                  </span>
                ))}
                {!one.used_by.length && <span className="text-ink3">{t("nothing")}</span>}
              </td>
              <td className="n">
                <RowAct word={t("Describe")} why={why} onDo={() => setDescribing(one)} />
                <RowAct word={t("Replace")} why={why} onDo={() => setEditing(one)} />
                <RowAct
                  word={t("Remove")}
                  why={why ?? (one.used_by.length ? t("It is in use") : undefined)}
                  onDo={() => void remove(one.name)}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {!data.length && (
        <p className="px-5 py-2 text-ink2">
          {t("No credentials yet. A backend that wants a sign-on names one in its environment.")}
        </p>
      )}
      <Panel
        title={editing === "new" || !editing ? t("New credential") : t("Replace the secret of {0}", editing.name)}
        open={editing !== null}
        onClose={() => setEditing(null)}
      >
        {editing && (
          <SecretForm
            of={editing === "new" ? null : editing}
            onDone={() => {
              setEditing(null);
              reload();
            }}
          />
        )}
      </Panel>
      <Panel
        title={t("Describe {0}", describing?.name ?? "")}
        open={describing !== null}
        onClose={() => setDescribing(null)}
      >
        {describing && (
          <WordsForm
            of={describing}
            onDone={() => {
              setDescribing(null);
              reload();
            }}
          />
        )}
      </Panel>
    </>
  );
}

/** An act on a row; `why` says why it cannot be done. */
function RowAct({ word, why, onDo }: { word: string; why: string | undefined; onDo: () => void }) {
  return (
    <button
      type="button"
      className="act not-last:mr-3"
      aria-disabled={why !== undefined}
      title={why}
      onClick={() => {
        if (why === undefined) onDo();
      }}
    >
      {word}
    </button>
  );
}

/** Whose account it is, what using it costs, and what it is for. */
function WordsForm({ of, onDone }: { of: Credential; onDone: () => void }) {
  const act = useAct();
  const [account, setAccount] = useState(of.account);
  const [cost, setCost] = useState(of.cost);
  const [description, setDescription] = useState(of.description);
  const save = () =>
    act.run(async () => {
      await ask("PUT", `/credentials/${encodeURIComponent(of.name)}/words`, { account, cost, description });
      onDone();
    });
  return (
    <Form word={t("Save the words")} busy={act.busy} onSend={() => void save()}>
      <TextField
        label={t("Whose account it is")}
        hint={t("A person, an office, or a technical account of one.")}
        value={account}
        onChange={setAccount}
      />
      <TextField
        label={t("What using it costs")}
        hint={t("Like a licence for each session, or a price for each call.")}
        value={cost}
        onChange={setCost}
      />
      <TextField label={t("What it is for")} value={description} onChange={setDescription} />
      <Problems problems={act.problems} />
    </Form>
  );
}

function Expiry({ at }: { at: string }) {
  const days = daysUntil(at);
  return (
    <span
      className={`flex items-center gap-1.5 ${days < 0 ? "font-semibold text-bad" : days < 14 ? "font-semibold text-warn" : ""}`}
    >
      {days < 14 && <Mark name={days < 0 ? "fault" : "risk"} />}
      {until(at)}
    </span>
  );
}

function SecretForm({ of, onDone }: { of: Credential | null; onDone: () => void }) {
  const act = useAct();
  const [name, setName] = useState("");
  const [kind, setKind] = useState(of?.kind ?? "password");
  const [user, setUser] = useState(of?.user ?? "");
  const [secret, setSecret] = useState("");
  const [certificate, setCertificate] = useState("");
  const [expires, setExpires] = useState("");
  const [overlap, setOverlap] = useState("24");
  const save = () =>
    act.run(async () => {
      const body = {
        user,
        secret,
        certificate,
        expires_at: expires ? new Date(`${expires}T00:00:00`).toISOString() : null,
      };
      if (of) await ask("POST", `/credentials/${of.name}/rotation`, { ...body, overlap_hours: Number(overlap) });
      else await ask("POST", "/credentials", { ...body, name, kind });
      setSecret("");
      onDone();
    });
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (!act.busy) void save();
      }}
    >
      {!of && <TextField label={t("Name")} value={name} onChange={setName} />}
      {!of && (
        <Labelled label={t("Kind")}>
          {() => (
            <Select
              label={t("Kind")}
              value={kind}
              onChange={setKind}
              options={(["password", "token", "certificate"] as const).map((one) => ({ value: one, word: one }))}
            />
          )}
        </Labelled>
      )}
      {kind !== "certificate" && <TextField label={t("User")} autoComplete="off" value={user} onChange={setUser} />}
      {kind === "certificate" ? (
        <>
          <Labelled label={t("Private key (PEM)")}>
            {(id) => (
              <textarea
                id={id}
                rows={4}
                className="field h-auto! font-mono text-[12px]"
                value={secret}
                onChange={(event) => setSecret(event.target.value)}
              />
            )}
          </Labelled>
          <Labelled label={t("Certificate (PEM)")}>
            {(id) => (
              <textarea
                id={id}
                rows={4}
                className="field h-auto! font-mono text-[12px]"
                value={certificate}
                onChange={(event) => setCertificate(event.target.value)}
              />
            )}
          </Labelled>
        </>
      ) : (
        <>
          <TextField
            label={t("Secret")}
            type="password"
            autoComplete="new-password"
            value={secret}
            onChange={setSecret}
          />
          <TextField
            label={t("Expires on")}
            hint={t("when the secret itself runs out; optional")}
            type="date"
            value={expires}
            onChange={setExpires}
          />
        </>
      )}
      {of && (
        <TextField
          label={t("Overlap in hours")}
          hint={t("for so long the old secret is tried too")}
          inputMode="numeric"
          value={overlap}
          onChange={setOverlap}
        />
      )}
      {act.problems.length > 0 && (
        <div className="mb-2">
          <Problems problems={act.problems} />
        </div>
      )}
      <button type="submit" className="btn btn-main" aria-disabled={act.busy}>
        {of ? t("Replace the secret") : t("Add the credential")}
      </button>
    </form>
  );
}
