/** Ctrl S saves, on the pages that edit. */
import { useKeys } from "../hotkeys";

export function useSaveKey(ready: boolean, save: () => unknown) {
  useKeys({
    "Ctrl+s": (event) => {
      event.preventDefault();
      if (ready) save();
    },
  });
}
