import { create } from "zustand";

export type Stage = "shot" | "drape" | "veil" | "proof" | "delivery";
export type Look = "original" | "result" | "wipe" | "difference" | "matte";
export type ToolName = "none" | "spot" | "outline" | "mark";
export type Selection = { kind: "shot" } | { kind: "drape"; name: string } | { kind: "veil"; name: string };
export type Pad = "dark" | "middle" | "light";

interface Ui {
  stage: Stage;
  frame: number;
  playing: number;
  loop: boolean;
  look: Look;
  wipe: number;
  differenceGain: number;
  tool: ToolName;
  selection: Selection;
  overlaysHidden: boolean;
  overlaysHeld: boolean;
  gridShown: boolean;
  flatShown: boolean;
  pad: Pad;
  dialog: "none" | "bring-in" | "help" | "palette" | "history";
  said: string;
  fault: string | null;
  set: (change: Partial<Ui>) => void;
  say: (text: string) => void;
}

/** Where the person is and what they see. Server facts never live here. */
export const useUi = create<Ui>((set) => ({
  stage: "shot",
  frame: 0,
  playing: 0,
  loop: true,
  look: "result",
  wipe: 0.5,
  differenceGain: 4,
  tool: "none",
  selection: { kind: "shot" },
  overlaysHidden: false,
  overlaysHeld: false,
  gridShown: true,
  flatShown: true,
  pad: "dark",
  dialog: "none",
  said: "",
  fault: null,
  set,
  say: (said) => set({ said }),
}));
