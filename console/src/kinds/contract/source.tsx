/** Where a contract comes from: an address that the service fetches, a text, or files and folders that are dropped. */
import { useState } from "react";
import { Segments } from "../../parts/controls";
import { TextField } from "../../parts/dialog";
import { DropFiles } from "../../parts/drop";
import { t } from "../../text";
import { textFiles, type Files } from "../../files";

/** As the API takes it. */
export interface Source {
  address: string;
  files: Files;
  main: string;
  user: string;
  password: string;
}

const NOWHERE: Source = { address: "", files: {}, main: "", user: "", password: "" };

export function SourceForm({ busy, onRead }: { busy: boolean; onRead: (source: Source) => void }) {
  const [way, setWay] = useState("files");
  const [address, setAddress] = useState("");
  const [user, setUser] = useState("");
  const [password, setPassword] = useState("");
  const [text, setText] = useState("");
  const [files, setFiles] = useState<Files>({});
  const [main, setMain] = useState("");
  const names = Object.keys(files);
  const source: Source =
    way === "address"
      ? { ...NOWHERE, address: address.trim(), user, password }
      : { ...NOWHERE, files: way === "text" ? textFiles(text) : files, main: way === "files" ? main : "" };
  const ready = way === "address" ? address.trim() !== "" : way === "text" ? text.trim() !== "" : names.length > 0;

  const take = (found: Files) => {
    setFiles(found);
    setMain("");
    // One file or one folder says all that is needed, so it is read at once.
    if (Object.keys(found).length) onRead({ ...NOWHERE, files: found });
  };

  return (
    <form
      className="border-b border-line px-5 py-3"
      onSubmit={(event) => {
        event.preventDefault();
        if (ready && !busy) onRead(source);
      }}
    >
      <div className="mb-2.5 flex items-center gap-3">
        <h1 className="text-[17px] font-semibold">{t("Take in a contract")}</h1>
        <Segments
          label={t("It comes from")}
          value={way}
          onChange={setWay}
          options={[
            { value: "files", word: t("Files") },
            { value: "address", word: t("Address") },
            { value: "text", word: t("Text") },
          ]}
        />
      </div>
      {way === "address" && (
        <div className="grid grid-cols-[minmax(0,1fr)_150px_150px] gap-x-3">
          <TextField
            label={t("Address of the WSDL")}
            value={address}
            onChange={setAddress}
            placeholder="https://services.example/board?wsdl"
            hint={t("The service fetches it, with all parts that it names.")}
          />
          <TextField label={t("User, where one is asked")} value={user} onChange={setUser} autoComplete="off" />
          <TextField
            label={t("Password")}
            type="password"
            value={password}
            onChange={setPassword}
            autoComplete="new-password"
            hint={t("Used now, kept nowhere.")}
          />
        </div>
      )}
      {way === "text" && (
        <textarea
          aria-label={t("Text of the contract")}
          spellCheck={false}
          value={text}
          onChange={(event) => setText(event.target.value)}
          className="block h-36 w-full resize-y rounded-[3px] border border-edge bg-raised p-2 font-mono text-[12px] leading-[17px]"
        />
      )}
      {way === "files" && (
        <DropFiles
          label={t("Files of the contract")}
          hint={t("or drop a WSDL here, with the schemas that it names: files, a folder, or a zip.")}
          names={names}
          onTake={take}
        />
      )}
      {way === "files" && names.length > 1 && (
        <div className="mt-2 w-80">
          <TextField
            label={t("The file that it begins with, where that is not plain")}
            value={main}
            onChange={setMain}
            placeholder={names.find((one) => one.endsWith(".wsdl")) ?? ""}
          />
        </div>
      )}
      <div className="mt-2.5">
        <button type="submit" className="btn" aria-disabled={!ready || busy}>
          {busy ? t("Reading…") : t("Read it")}
        </button>
      </div>
    </form>
  );
}
