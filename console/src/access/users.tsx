/** Users: people with a role. */
import { useState } from "react";
import { ask } from "../api";
import { useAct } from "../act";
import { useLoad } from "../load";
import { Problems, Select } from "../parts/controls";
import { Labelled, TextField, Panel } from "../parts/dialog";
import { mayAtLeast, useSession } from "../session";
import { when } from "../formats";
import { t } from "../text";

const ROLES = ["viewer", "operator", "integrator", "admin"];
const MAY: Record<string, string> = {
  viewer: t("reads everything but secrets"),
  operator: t("also tests, deploys, rolls back, and runs pools"),
  integrator: t("also edits and releases definitions"),
  admin: t("also manages users, callers and credentials"),
};

export function Users() {
  const admin = mayAtLeast(useSession(), "admin");
  const { data, reload } = useLoad<{ name: string; role: string; created_at: string }[]>(admin ? "/users" : null, 15);
  const act = useAct();
  const [adding, setAdding] = useState(false);
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [role, setRole] = useState("viewer");
  if (!admin) return <p className="px-5 py-3 text-ink2">{t("Only an admin sees the users.")}</p>;
  if (!data) return null;
  const change = (user: string, to: string) =>
    act.run(async () => {
      await ask("PATCH", `/users/${user}`, { role: to });
      reload();
    });
  const add = () =>
    act.run(async () => {
      await ask("POST", "/users", { name, password, role });
      setAdding(false);
      setName("");
      setPassword("");
      reload();
    });
  return (
    <>
      <div className="flex items-center gap-3 px-5 py-2">
        <p className="text-ink2">{t("People. Each role may do what the ones before it may.")}</p>
        <button type="button" className="btn btn-main ml-auto" onClick={() => setAdding(true)}>
          {t("New user")}
        </button>
      </div>
      {!adding && act.problems.length > 0 && (
        <div className="px-5 pb-2">
          <Problems problems={act.problems} />
        </div>
      )}
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col">{t("User")}</th>
            <th scope="col">{t("Role")}</th>
            <th scope="col">{t("May")}</th>
            <th scope="col">{t("Since")}</th>
          </tr>
        </thead>
        <tbody>
          {data.map((one) => (
            <tr key={one.name}>
              <th scope="row" className="font-semibold">
                {one.name}
              </th>
              <td className="w-40 py-1!">
                <Select
                  label={t("Role of {0}", one.name)}
                  value={one.role}
                  onChange={(to) => void change(one.name, to)}
                  options={ROLES.map((word) => ({ value: word, word }))}
                />
              </td>
              <td className="text-ink2">{MAY[one.role]}</td>
              <td>{when(one.created_at)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <Panel title={t("New user")} open={adding} onClose={() => setAdding(false)}>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            if (!act.busy) void add();
          }}
        >
          <TextField label={t("Name")} autoComplete="off" value={name} onChange={setName} />
          <TextField
            label={t("Password")}
            hint={t("at least 10 characters")}
            type="password"
            autoComplete="new-password"
            value={password}
            onChange={setPassword}
          />
          <Labelled label={t("Role")} hint={MAY[role]}>
            {() => (
              <Select
                label={t("Role")}
                value={role}
                onChange={setRole}
                options={ROLES.map((word) => ({ value: word, word }))}
              />
            )}
          </Labelled>
          {act.problems.length > 0 && (
            <div className="mb-2">
              <Problems problems={act.problems} />
            </div>
          )}
          <button type="submit" className="btn btn-main" aria-disabled={act.busy}>
            {t("Add the user")}
          </button>
        </form>
      </Panel>
    </>
  );
}
