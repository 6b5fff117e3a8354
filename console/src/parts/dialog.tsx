/** A dialog with a title, a body and its acts. */
import { X } from "lucide-react";
import { Dialog } from "radix-ui";
import { useId, type ComponentProps, type ReactNode } from "react";
import { t } from "../text";

export function Panel({
  title,
  open,
  onClose,
  children,
  wide = false,
}: {
  title: string;
  open: boolean;
  onClose: () => void;
  children: ReactNode;
  wide?: boolean;
}) {
  return (
    <Dialog.Root
      open={open}
      onOpenChange={(next) => {
        if (!next) onClose();
      }}
    >
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/25" />
        <Dialog.Content
          aria-describedby={undefined}
          className={`pop fixed top-20 left-1/2 z-40 max-h-[80vh] -translate-x-1/2 overflow-auto p-5 ${wide ? "w-[680px]" : "w-[440px]"}`}
        >
          <div className="mb-3 flex items-center">
            <Dialog.Title className="text-[15px] font-semibold">{title}</Dialog.Title>
            <Dialog.Close className="ibtn -mr-1.5 ml-auto" aria-label={t("Close")}>
              <X size={16} strokeWidth={1.75} />
            </Dialog.Close>
          </div>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

export function Labelled({
  label,
  hint,
  children,
}: {
  label: string;
  hint?: string;
  children: (id: string) => ReactNode;
}) {
  const id = useId();
  return (
    <div className="mb-2.5">
      <label className="lbl" htmlFor={id}>
        {label}
      </label>
      {children(id)}
      {hint && <p className="mt-0.5 text-xs text-ink3">{hint}</p>}
    </div>
  );
}

/** A line of text with its label; what else an input takes is passed on. */
export function TextField({
  label,
  hint,
  onChange,
  ...input
}: {
  label: string;
  hint?: string;
  value: string;
  onChange: (value: string) => void;
} & Omit<ComponentProps<"input">, "id" | "value" | "onChange">) {
  return (
    <Labelled label={label} {...(hint === undefined ? {} : { hint })}>
      {(id) => <input className="field" {...input} id={id} onChange={(event) => onChange(event.target.value)} />}
    </Labelled>
  );
}
