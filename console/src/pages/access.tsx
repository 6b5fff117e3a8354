/** Who may: callers with their tokens and limits, their grants, credentials, users, and the audit trail. */
import { Tabs } from "radix-ui";
import { useAddress } from "../address";
import { Audit } from "../access/audit";
import { Callers } from "../access/callers";
import { Credentials } from "../access/credentials";
import { Grants } from "../access/grants";
import { Users } from "../access/users";
import { t } from "../text";

const TABS = [
  { value: "callers", word: t("Callers"), body: <Callers /> },
  { value: "grants", word: t("Grants"), body: <Grants /> },
  { value: "credentials", word: t("Credentials"), body: <Credentials /> },
  { value: "users", word: t("Users"), body: <Users /> },
  { value: "audit", word: t("Audit trail"), body: <Audit /> },
];

export default function AccessPage() {
  const [search, setSearch] = useAddress();
  const tab = TABS.find((one) => one.value === search.get("tab"))?.value ?? "callers";
  return (
    <Tabs.Root value={tab} onValueChange={(next) => setSearch({ tab: next })} className="flex min-h-0 grow flex-col">
      <div className="flex items-center gap-6 border-b border-line px-5">
        <h1 className="text-[20px] leading-6 font-semibold">{t("Access")}</h1>
        <Tabs.List className="flex gap-5" aria-label={t("Kinds of access")}>
          {TABS.map((one) => (
            <Tabs.Trigger key={one.value} value={one.value} className="tab h-[44px]">
              {one.word}
            </Tabs.Trigger>
          ))}
        </Tabs.List>
      </div>
      {TABS.map((one) => (
        <Tabs.Content key={one.value} value={one.value} className="min-h-0 grow overflow-auto">
          {one.body}
        </Tabs.Content>
      ))}
    </Tabs.Root>
  );
}
