/** The first page of a new service: environments, a backend, a table as a service, a first caller and an answered call, one after the other. */
import { useState, type ReactNode } from "react";
import { Link } from "wouter";
import { ask, type Overview, type Reply, type TableRow } from "../api";
import { useAct } from "../act";
import { ConnectBackend } from "../definitions/connect";
import { Form } from "../parts/form";
import { plural } from "../formats";
import { useLoad } from "../load";
import { CopyButton, Problems, Select } from "../parts/controls";
import { TextField } from "../parts/dialog";
import { Mark } from "../parts/marks";
import { mayAtLeast, useSession } from "../session";
import { rich, t } from "../text";

/** A name of many words as one: toll_rate becomes TollRate. */
const pascal = (name: string) =>
  name
    .split(/[^A-Za-z0-9]+/)
    .map((one) => one.charAt(0).toUpperCase() + one.slice(1))
    .join("");

export default function StartPage() {
  const admin = mayAtLeast(useSession(), "admin");
  const overview = useLoad<Overview>("/overview", 10);
  const ends = useLoad<{ backend: string; environment: string; bound: boolean; family: string }[]>("/backends", 10);
  if (!overview.data || !ends.data) return null;
  const environment = overview.data.environments[0]?.name ?? "";
  const bound = ends.data.filter((one) => one.bound && one.environment === environment);
  const host = bound.find((one) => one.family === "terminal host")?.backend ?? "";
  const database = bound.find((one) => one.family === "database")?.backend ?? "";
  const backend = database || host;
  const service = overview.data.services.find((one) =>
    one.deployments.some((at) => at.environment === environment && at.answers),
  );
  const reload = () => {
    overview.reload();
    ends.reload();
  };
  return (
    <div className="min-h-0 grow overflow-auto px-5 py-4">
      <h1 className="text-[20px] leading-6 font-semibold">{t("The first hour")}</h1>
      <p className="mb-3 max-w-[70ch] text-ink2">
        {t("From an empty service to an answered call. What is done stays done; you can leave and come back.")}
      </p>
      {!admin && <p className="strip mb-3">{t("Setting up needs the role admin.")}</p>}
      <ol className="flex max-w-[720px] flex-col gap-3">
        <Step
          number={1}
          title={t("Environments")}
          done={environment && overview.data.environments.map((one) => one.name).join(", ")}
        >
          <Environments onDone={reload} />
        </Step>
        <Step number={2} title={t("A backend")} done={backend} waits={!environment}>
          <ConnectBackend environment={environment} families={["database"]} onDone={reload} />
          <p className="mt-3 border-t border-line pt-2 text-ink2">
            {rich(
              "Or a terminal host: {0}",
              <Link className="act" href="/screens/record">
                {t("see it at a terminal, sign on once, and record a task")}
              </Link>,
            )}
          </p>
        </Step>
        <Step
          number={3}
          title={database || !host ? t("A table as a service") : t("A task of the host as a service")}
          done={service?.name ?? ""}
          waits={!backend}
        >
          {database || !host ? (
            <FirstService environment={environment} backend={backend} onDone={reload} />
          ) : (
            <Link
              className="btn btn-main"
              href={`/screens/record?place=${encodeURIComponent(`${environment} ${host}`)}`}
            >
              {t("Record a walk through {0}", host)}
            </Link>
          )}
        </Step>
        <Step number={4} title={t("A caller, and a call")} done="" waits={!service}>
          {service && <FirstCall environment={environment} service={service.name} onDone={reload} />}
        </Step>
      </ol>
    </div>
  );
}

function Step({
  number,
  title,
  done,
  waits = false,
  children,
}: {
  number: number;
  title: string;
  done: string;
  waits?: boolean;
  children: ReactNode;
}) {
  return (
    <li aria-label={title} className="rounded-[4px] border border-line bg-sheet px-4 py-3">
      <h2 className="flex items-center gap-2 text-[15px] font-semibold">
        <Mark name={done ? "serving" : "none"} />
        {number}. {title}
        {done && <span className="font-normal text-ink2">{done}</span>}
      </h2>
      {!done && waits && <p className="text-ink3">{t("After the step before.")}</p>}
      {!done && !waits && <div className="mt-2">{children}</div>}
    </li>
  );
}

function Environments({ onDone }: { onDone: () => void }) {
  const act = useAct();
  const [names, setNames] = useState("trial, live");
  const make = () =>
    act.run(async () => {
      const list = names
        .split(",")
        .map((one) => one.trim())
        .filter(Boolean);
      const files = Object.fromEntries(
        list.map((name, index) => [
          `environments/${name}.yaml`,
          [
            `environment: ${name}`,
            ...(index ? [`follows: ${list[index - 1] ?? ""}`] : []),
            ...(index && index === list.length - 1 ? ["protected: true"] : []),
          ].join("\n") + "\n",
        ]),
      );
      await ask("POST", "/definitions", { files });
      onDone();
    });
  return (
    <Form onSend={() => void make()} word={t("Make them")} busy={act.busy}>
      <TextField
        label={t("Their names, the first one first")}
        hint={t("A release passes them in this order; the last one is protected.")}
        value={names}
        onChange={setNames}
        required
      />
      <Problems problems={act.problems} />
    </Form>
  );
}

function FirstService({ environment, backend, onDone }: { environment: string; backend: string; onDone: () => void }) {
  const act = useAct();
  const tables = (useLoad<TableRow[]>(`/discovery/${environment}/${backend}`).data ?? []).filter(
    (one) => !one.reasons.length,
  );
  const [table, setTable] = useState("");
  const [service, setService] = useState("");
  const [role, setRole] = useState("reader");
  const chosen = tables.find((one) => one.name === table) ?? tables[0];
  if (!chosen) return <p className="text-ink2">{t("No table of it can be published as it is.")}</p>;
  const called = service || pascal(chosen.name);
  const make = () =>
    act.run(async () => {
      await ask("POST", `/discovery/${environment}/${backend}`, {
        table: chosen.name,
        service: called,
        operations: ["get", "find"],
        roles: [role],
        save: true,
      });
      await ask("POST", `/services/${called}/releases`, { notes: t("The first release") });
      await ask("POST", `/services/${called}/deployments`, { environment });
      onDone();
    });
  return (
    <Form onSend={() => void make()} word={t("Publish it in {0}", environment)} busy={act.busy}>
      <Select
        label={t("Table")}
        value={chosen.name}
        onChange={setTable}
        options={tables.map((one) => ({
          value: one.name,
          word: one.rows === null ? one.name : t("{0}, {1}", one.name, plural(one.rows, "row")),
        }))}
      />
      <TextField label={t("The name of the service")} value={called} onChange={setService} required />
      <TextField label={t("The role that may call it")} value={role} onChange={setRole} required />
      <Problems problems={act.problems} />
    </Form>
  );
}

interface Called {
  token: string;
  reply: Reply;
  wsdl: string;
}

function FirstCall({ environment, service, onDone }: { environment: string; service: string; onDone: () => void }) {
  const act = useAct();
  const [name, setName] = useState("first-caller");
  const [made, setMade] = useState<Called | null>(null);
  const call = () =>
    act.run(async () => {
      type Operation = { name: string; writes: boolean; roles: string[]; input: Input[] };
      type Input = { name: string; required: boolean; sample?: string | null };
      const operations = await ask<Operation[]>("GET", `/services/${service}/operations?environment=${environment}`);
      const reading = operations.find((one) => !one.writes && one.name.startsWith("Get")) ?? operations[0];
      if (!reading) return;
      await ask("PUT", `/callers/${name}`, { roles: reading.roles, description: t("Made on the first page") });
      const { token } = await ask<{ token: string }>("POST", `/callers/${name}/tokens`);
      const values = Object.fromEntries(
        reading.input.filter((one) => one.required && one.sample).map((one) => [one.name, one.sample]),
      );
      const reply = await ask<Reply>("POST", "/bench", {
        environment,
        service,
        operation: reading.name,
        values,
        caller: name,
      });
      const overview = await ask<Overview>("GET", "/overview");
      const at = overview.services
        .find((one) => one.name === service)
        ?.deployments.find((one) => one.environment === environment);
      setMade({ token, reply, wsdl: at?.wsdl ?? "" });
      onDone();
    });
  if (made)
    return (
      <div role="status" className="flex flex-col gap-2">
        <p className="font-semibold">{made.reply.fault ? t("It answered with a fault.") : t("It answered.")}</p>
        <pre className="max-h-56 overflow-auto rounded-[3px] bg-inset p-2 font-mono text-[12px]">
          {JSON.stringify(made.reply.answer ?? made.reply.fault, null, 2)}
        </pre>
        <p className="flex items-center gap-1">
          <span className="text-ink2">{t("The token of {0}, shown once:", name)}</span>
          <span className="font-mono text-[12px]">{made.token}</span>
          <CopyButton text={made.token} what={t("token")} />
        </p>
        <p className="flex items-center gap-1">
          <span className="text-ink2">{t("The contract for callers:")}</span>
          <span className="font-mono text-[12px]">{made.wsdl}</span>
          <CopyButton text={made.wsdl} what={t("address of the contract")} />
        </p>
        <p>
          <Link className="act mr-3" href={`/tests?service=${service}`}>
            {t("Go on at the bench")}
          </Link>
          <Link className="act mr-3" href="/definitions/database?several=yes">
            {t("Publish more tables")}
          </Link>
          <Link className="act" href="/">
            {t("Overview")}
          </Link>
        </p>
      </div>
    );
  return (
    <Form onSend={() => void call()} word={t("Let it in and call {0}", service)} busy={act.busy}>
      <TextField label={t("The name of the first caller")} value={name} onChange={setName} required />
      <Problems problems={act.problems} />
    </Form>
  );
}
