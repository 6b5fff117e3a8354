/** Callers: roles, limits, tokens that are shown once. */
import { useState } from "react";
import { ask, type CallerRow } from "../api";
import { useAct } from "../act";
import { useLoad } from "../load";
import { ActsHead, CopyButton, Problems } from "../parts/controls";
import { Labelled, TextField, Panel } from "../parts/dialog";
import { mayAtLeast, useSession } from "../session";
import { until, when } from "../formats";
import { rich, t } from "../text";

interface Role {
  role: string;
  grants: Record<string, string[]>;
  callers: string[];
}

export function Callers() {
  const admin = mayAtLeast(useSession(), "admin");
  const { data, reload } = useLoad<CallerRow[]>("/callers", 10);
  const roles = useLoad<Role[]>("/roles", 30);
  const act = useAct();
  const [editing, setEditing] = useState<Partial<CallerRow> | null>(null);
  const [made, setMade] = useState<{ caller: string; token: string; older: string | null } | null>(null);
  if (!data) return null;
  const token = (caller: string, overlap: number | null) =>
    act.run(async () => {
      const found = await ask<{ token: string; older_end_at: string | null }>("POST", `/callers/${caller}/tokens`, {
        overlap_hours: overlap,
      });
      setMade({ caller, token: found.token, older: found.older_end_at });
      reload();
    });
  const revoke = (caller: string, prefix: string) =>
    act.run(async () => {
      await ask("DELETE", `/callers/${caller}/tokens/${prefix}`);
      reload();
    });
  const why = admin ? undefined : t("Changing callers needs the role admin");
  return (
    <>
      <div className="flex items-center gap-3 px-5 py-2">
        <p className="text-ink2">
          {t("Identities that call services. A role that a service does not name may call nothing.")}
        </p>
        <button
          type="button"
          className="btn btn-main ml-auto"
          aria-disabled={!admin}
          title={why}
          onClick={() => {
            if (admin) setEditing({});
          }}
        >
          {t("New caller")}
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
            <th scope="col">{t("Caller")}</th>
            <th scope="col">{t("Roles")}</th>
            <th scope="col">{t("Limits")}</th>
            <th scope="col">{t("Token")}</th>
            <th scope="col">{t("Expires")}</th>
            <th scope="col">{t("Last used")}</th>
            <ActsHead />
          </tr>
        </thead>
        <tbody>
          {data.flatMap((one) =>
            (one.tokens.length ? one.tokens : [null]).map((own, index) => (
              <tr key={`${one.name}-${own?.prefix ?? ""}`}>
                {index === 0 ? (
                  <>
                    <th scope="row">
                      <span className="block font-semibold">{one.name}</span>
                      <span className="text-xs text-ink2">{one.description}</span>
                    </th>
                    <td>
                      {one.roles.join(", ") || (
                        <span className="font-semibold text-warn">{t("none: may call nothing")}</span>
                      )}
                    </td>
                    <td className="text-ink2">
                      {[
                        one.networks.length ? t("from {0}", one.networks.join(", ")) : "",
                        one.per_minute ? `${one.per_minute} a minute` : "",
                        one.parallel ? t("{0} at once", one.parallel) : "",
                      ]
                        .filter(Boolean)
                        .join("; ") || t("none")}
                    </td>
                  </>
                ) : (
                  <>
                    <th scope="row">
                      <span className="sr-only">{one.name}</span>
                    </th>
                    <td />
                    <td />
                  </>
                )}
                <td className="font-mono text-[12.5px]">{own ? `${own.prefix}…` : t("no token")}</td>
                <td className={own?.expires_at && until(own.expires_at) === "expired" ? "text-bad" : ""}>
                  {own ? own.expires_at ? until(own.expires_at) : <span className="text-ink3">{t("never")}</span> : ""}
                </td>
                <td>
                  {own ? (
                    own.last_used_at ? (
                      when(own.last_used_at)
                    ) : (
                      <span className="text-ink3">{t("never")}</span>
                    )
                  ) : (
                    ""
                  )}
                </td>
                <td className="n whitespace-nowrap">
                  {own && (
                    <button
                      type="button"
                      className="act mr-3"
                      aria-disabled={!admin || act.busy}
                      title={why}
                      onClick={() => {
                        if (admin) void revoke(one.name, own.prefix);
                      }}
                    >
                      {t("Revoke")}
                    </button>
                  )}
                  {index === 0 && (
                    <>
                      <button
                        type="button"
                        className="act mr-3"
                        aria-disabled={!admin || act.busy}
                        title={why ?? t("A new token; the older ones end in 24 hours")}
                        onClick={() => {
                          if (admin) void token(one.name, one.tokens.length ? 24 : null);
                        }}
                      >
                        {one.tokens.length ? t("Rotate") : t("New token")}
                      </button>
                      <button
                        type="button"
                        className="act"
                        aria-disabled={!admin}
                        title={why}
                        onClick={() => {
                          if (admin) setEditing(one);
                        }}
                      >
                        {t("Change")}
                      </button>
                    </>
                  )}
                </td>
              </tr>
            )),
          )}
        </tbody>
      </table>
      {!data.length && (
        <p className="px-5 py-2 text-ink2">{t("No callers yet. A caller has a name, roles and tokens.")}</p>
      )}
      <h2 className="px-5 pt-5 pb-1 text-[15px] font-semibold">{t("Roles")}</h2>
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col">{t("Role")}</th>
            <th scope="col">{t("May call")}</th>
            <th scope="col">{t("Callers")}</th>
          </tr>
        </thead>
        <tbody>
          {roles.data?.map((one) => (
            <tr key={one.role}>
              <th scope="row" className="font-semibold">
                {one.role}
              </th>
              <td className="py-1!">
                {Object.entries(one.grants).map(([service, names]) => (
                  <span key={service} className="block">
                    {service}: {names.join(", ")}
                  </span>
                ))}
                {!Object.keys(one.grants).length && <span className="text-ink3">{t("nothing")}</span>}
              </td>
              <td>{one.callers.join(", ") || <span className="text-warn">{t("nobody")}</span>}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <Panel
        title={editing?.name ? t("Change {0}", editing.name) : t("New caller")}
        open={editing !== null}
        onClose={() => setEditing(null)}
      >
        {editing && (
          <CallerForm
            of={editing}
            roles={(roles.data ?? []).map((one) => one.role)}
            onDone={() => {
              setEditing(null);
              reload();
              roles.reload();
            }}
          />
        )}
      </Panel>
      <Panel title={t("Token of {0}", made?.caller ?? "")} open={made !== null} onClose={() => setMade(null)}>
        <p>
          {rich(
            "It is shown here once and never again.{0}",
            made?.older && t(" The older tokens end at {0}.", when(made.older)),
          )}
        </p>
        <div className="mt-2 flex items-center gap-1 rounded-[3px] border border-edge bg-inset px-2 py-1">
          <code className="min-w-0 grow font-mono text-[12px] break-all">{made?.token}</code>
          <CopyButton text={made?.token ?? ""} what={t("the token")} />
        </div>
      </Panel>
    </>
  );
}

function CallerForm({ of, roles, onDone }: { of: Partial<CallerRow>; roles: string[]; onDone: () => void }) {
  const act = useAct();
  const [name, setName] = useState(of.name ?? "");
  const [description, setDescription] = useState(of.description ?? "");
  const [own, setOwn] = useState((of.roles ?? []).join(", "));
  const [networks, setNetworks] = useState((of.networks ?? []).join(", "));
  const [perMinute, setPerMinute] = useState(String(of.per_minute ?? ""));
  const [parallel, setParallel] = useState(String(of.parallel ?? ""));
  const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  const save = () =>
    act.run(async () => {
      await ask("PUT", `/callers/${encodeURIComponent(name)}`, {
        description,
        roles: words(own),
        networks: words(networks),
        per_minute: perMinute ? Number(perMinute) : null,
        parallel: parallel ? Number(parallel) : null,
      });
      onDone();
    });
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (!act.busy) void save();
      }}
    >
      <TextField label={t("Name")} value={name} disabled={!!of.name} onChange={setName} />
      <TextField label={t("Description")} value={description} onChange={setDescription} />
      <Labelled
        label={t("Roles")}
        hint={roles.length ? t("Known roles: {0}", roles.join(", ")) : t("Services name roles under access")}
      >
        {(id) => <input id={id} className="field" value={own} onChange={(event) => setOwn(event.target.value)} />}
      </Labelled>
      <TextField
        label={t("Allowed networks")}
        hint={t("CIDR form like 10.20.0.0/16; from anywhere when empty")}
        value={networks}
        onChange={setNetworks}
      />
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label={t("Calls a minute")}
          hint={t("no limit when empty")}
          inputMode="numeric"
          value={perMinute}
          onChange={setPerMinute}
        />
        <TextField
          label={t("Calls at once")}
          hint={t("no limit when empty")}
          inputMode="numeric"
          value={parallel}
          onChange={setParallel}
        />
      </div>
      {act.problems.length > 0 && (
        <div className="mb-2">
          <Problems problems={act.problems} />
        </div>
      )}
      <button type="submit" className="btn btn-main" aria-disabled={act.busy}>
        {of.name ? t("Save the caller") : t("Add the caller")}
      </button>
    </form>
  );
}
