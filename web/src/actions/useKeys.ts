import { useEffect } from "react";
import { actionFor, keyName, type Doing } from "./actions";
import { useUi } from "../app/store";

const TYPING = "input, textarea, select, [contenteditable]";
/** Between panes, arrow keys, Home and End move the line. */
const DIVIDER = "[role=separator]";
const DIVIDER_KEYS = new Set(["ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown", "Home", "End"]);

/** One listener for all shortcuts; silent while typing or while a dialog is open. */
export function useKeys(doing: Doing | null): void {
  useEffect(() => {
    if (!doing) return;
    const down = (e: KeyboardEvent) => {
      const target = e.target as HTMLElement;
      const action = actionFor(keyName(e));
      if (!action || useUi.getState().dialog !== "none") return;
      if (target.closest(DIVIDER) && DIVIDER_KEYS.has(e.key)) return;
      if (target.closest(TYPING) || (e.key === " " && target.closest("button, [role=switch], [role=radio]")))
        return;
      if (action.when && !action.when(doing)) return;
      e.preventDefault();
      if (action.release && e.repeat) return;
      action.run(doing);
    };
    const up = (e: KeyboardEvent) => actionFor(keyName(e))?.release?.();
    const blur = () => useUi.getState().set({ overlaysHeld: false });
    window.addEventListener("keydown", down);
    window.addEventListener("keyup", up);
    window.addEventListener("blur", blur);
    return () => {
      window.removeEventListener("keydown", down);
      window.removeEventListener("keyup", up);
      window.removeEventListener("blur", blur);
    };
  }, [doing]);
}
