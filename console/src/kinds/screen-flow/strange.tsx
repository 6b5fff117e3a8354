/** A host that nobody has defined: its terminal is opened at an address, and what is done there makes a backend of it. */
import { useState } from "react";
import type { EngineEntry, Overview } from "../../api";
import { useLoad } from "../../load";
import { Problems, Select } from "../../parts/controls";
import { Panel, TextField } from "../../parts/dialog";
import { Form } from "../../parts/form";
import type { Problem } from "../../api";
import { t } from "../../text";

/** Where such a host is, and how a terminal talks to it. */
export interface StrangeHost {
  environment: string;
  address: string;
  engine: string;
  tls: string;
  device: string;
  code_page: string;
  /** Of a 3270: 2 to 5. */
  model: string;
  /** A 5250 of 27 rows of 132. */
  wide: string;
}

/** Models of a 3270; a wide 5250. */
const SIZES = [
  ["2", "24 x 80"],
  ["3", "32 x 80"],
  ["4", "43 x 80"],
  ["5", "27 x 132 (3270)"],
  ["wide", "27 x 132 (5250)"],
] as const;

export const pathOf = ({ environment, ...query }: StrangeHost) =>
  `strange-terminals/${encodeURIComponent(environment)}?${new URLSearchParams({ ...query }).toString()}`;

export function StrangeForm({ opening, onOpen }: { opening: boolean; onOpen: (host: StrangeHost) => void }) {
  const environments = useLoad<Overview>("/overview").data?.environments ?? [];
  const engines = (useLoad<EngineEntry[]>("/engines").data ?? []).filter((one) => one.family === "terminal host");
  const [host, setHost] = useState<StrangeHost>({
    environment: "",
    address: "",
    engine: "",
    tls: "off",
    device: "",
    code_page: "cp037",
    model: "2",
    wide: "false",
  });
  const environment = host.environment || (environments.find((one) => !one.protected) ?? environments[0])?.name || "";
  const engine = host.engine || engines[0]?.engine || "";
  const set = (change: Partial<StrangeHost>) => setHost({ ...host, ...change });
  if (!environment) return <p className="text-ink2">{t("It is somewhere, so make an environment first.")}</p>;
  return (
    <Form word={t("Open a terminal there")} busy={opening} onSend={() => onOpen({ ...host, environment, engine })}>
      <TextField
        label={t("Its address")}
        placeholder="127.0.0.1:23"
        value={host.address}
        onChange={(address) => set({ address })}
        required
      />
      <div className="grid grid-cols-2 gap-3">
        <div>
          <span className="lbl">{t("How it talks")}</span>
          <Select
            label={t("How it talks")}
            value={engine}
            onChange={(next) => set({ engine: next })}
            options={engines.map((one) => ({ value: one.engine, word: one.title }))}
          />
        </div>
        <div>
          <span className="lbl">{t("In which environment")}</span>
          <Select
            label={t("In which environment")}
            value={environment}
            onChange={(next) => set({ environment: next })}
            options={environments.map((one) => ({ value: one.name, word: one.name }))}
          />
        </div>
        <TextField
          label={t("Device")}
          hint={t("The host chooses when empty.")}
          value={host.device}
          onChange={(device) => set({ device })}
        />
        <div>
          <span className="lbl">{t("Size of the screen")}</span>
          <Select
            label={t("Size of the screen")}
            value={host.wide === "true" ? "wide" : host.model}
            onChange={(next) => set(next === "wide" ? { wide: "true" } : { model: next, wide: "false" })}
            options={SIZES.map(([value, word]) => ({ value, word }))}
          />
        </div>
        <TextField label={t("Code page")} value={host.code_page} onChange={(code_page) => set({ code_page })} />
      </div>
    </Form>
  );
}

/** What the walk is made of: a backend of a name, with a credential of what was typed at the sign-on. */
export function LearnPanel({
  address,
  problems,
  busy,
  onLearn,
  onClose,
}: {
  address: string;
  problems: Problem[];
  busy: boolean;
  onLearn: (name: string, credential: string) => void;
  onClose: () => void;
}) {
  const [name, setName] = useState("");
  const [credential, setCredential] = useState("");
  return (
    <Panel title={t("Connect {0}", address)} open onClose={onClose}>
      <p className="mb-3 text-ink2">
        {t("The screen that is shown becomes the start. The sign-on and what came after it are taken over.")}{" "}
        {t("What you typed there becomes a credential: the password goes into the sealed store and to nobody's eyes.")}
      </p>
      <Form word={t("Connect it")} busy={busy} onSend={() => onLearn(name, credential)}>
        <TextField label={t("What it is called here")} value={name} onChange={setName} required />
        <TextField
          label={t("Name of the credential")}
          hint={t("Like the backend when empty.")}
          value={credential}
          onChange={setCredential}
        />
        <Problems problems={problems} />
      </Form>
    </Panel>
  );
}
