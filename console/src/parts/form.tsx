/** A form with one act. */
import type { FormEvent, ReactNode } from "react";

export function Form({
  onSend,
  word,
  busy,
  children,
}: {
  onSend: () => void;
  word: string;
  busy: boolean;
  children: ReactNode;
}) {
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        onSend();
      }}
    >
      {children}
      <button type="submit" className="btn btn-main self-start" disabled={busy}>
        {word}
      </button>
    </form>
  );
}
