/** Ctrl S saves, on the pages that edit. */
import { useEffect } from "react";

export function useSaveKey(ready: boolean, save: () => unknown) {
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (!(event.ctrlKey && event.key === "s")) return;
      event.preventDefault();
      if (ready) save();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  });
}
