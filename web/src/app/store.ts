import { create } from "zustand";
import { useShallow } from "zustand/react/shallow";
import type { Recipe } from "../features/recipe";
import { FIRST_BRUSH, type Brush } from "../features/veil/brush";

export type Stage = "shot" | "drape" | "veil" | "proof" | "delivery";
export type Look = "original" | "result" | "wipe" | "difference" | "matte" | "tint" | "edge" | "tracked";
/** What is stuck to the surface, to judge how it is followed. */
export const STUCK = ["grid", "checker", "dots", "trails", "none"] as const;
export type Stuck = (typeof STUCK)[number];
/** How far before and after the playhead is played over and over. */
export const SPAN_FRAMES = 8;
export type FlatLook = "same" | "tracked" | "residual" | "apart";
/** What a click on the reference does to a drape's points; with Shift it takes away. */
export type PointClick = "place" | "denser";
export type ToolName =
  | "none"
  | "spot"
  | "outline"
  | "holdout"
  | "mark"
  | "tack"
  | "brush"
  | "source"
  | "stroke"
  | "point"
  | "vertex";
export type Selection = { kind: "shot" } | { kind: "drape" | "veil" | "holdout"; name: string };
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
  /** What kind of veil the mark tool makes. */
  markKind: string;
  brush: Brush;
  /** Which stroke of the selected veil is in hand. */
  stroke: number | null;
  /** What dragging a keyed shape changes. */
  shapeScope: "frame" | "all";
  /** The only veil that is seen, or null for all. */
  solo: string | null;
  /** A recipe that is only being tried, while something is dragged. */
  draft: Recipe | null;
  selection: Selection;
  overlaysHidden: boolean;
  overlaysHeld: boolean;
  stuck: Stuck;
  flatLook: FlatLook;
  /** The drape that the selected one is compared with, or null. */
  compared: string | null;
  pointClick: PointClick;
  /** Frames that have not been followed show where the motion of every pixel would take the drape. */
  drafting: boolean;
  /** How much contrast is raised where followers' own pictures are shown. */
  contrastGain: number;
  /** A lens around the pointer, while its key is held. */
  lens: boolean;
  /** Frames that are played over and over instead of the range. */
  span: [number, number] | null;
  flatShown: boolean;
  /** Whether the flat view is the larger one; null until somebody chose. */
  flatLarge: boolean | null;
  /** How often all panes were put back to their sizes. */
  panesPutBack: number;
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
  markKind: "conceal",
  brush: FIRST_BRUSH,
  stroke: null,
  shapeScope: "frame",
  solo: null,
  draft: null,
  selection: { kind: "shot" },
  overlaysHidden: false,
  overlaysHeld: false,
  stuck: "grid",
  flatLook: "same",
  compared: null,
  pointClick: "place",
  drafting: false,
  contrastGain: 4,
  lens: false,
  span: null,
  flatShown: true,
  flatLarge: null,
  panesPutBack: 0,
  pad: "dark",
  dialog: "none",
  said: "",
  fault: null,
  set,
  say: (said) => set({ said }),
}));

/** All but the playhead, for what must not be drawn anew with every frame; `now().frame` reads it when asked. */
export function useUiAside(): Omit<Ui, "frame" | "playing" | "wipe" | "said" | "draft"> {
  return useUi(
    useShallow((s) => ({
      stage: s.stage,
      loop: s.loop,
      look: s.look,
      differenceGain: s.differenceGain,
      tool: s.tool,
      markKind: s.markKind,
      brush: s.brush,
      stroke: s.stroke,
      shapeScope: s.shapeScope,
      solo: s.solo,
      selection: s.selection,
      overlaysHidden: s.overlaysHidden,
      overlaysHeld: s.overlaysHeld,
      stuck: s.stuck,
      flatLook: s.flatLook,
      compared: s.compared,
      pointClick: s.pointClick,
      drafting: s.drafting,
      contrastGain: s.contrastGain,
      lens: s.lens,
      span: s.span,
      flatShown: s.flatShown,
      flatLarge: s.flatLarge,
      panesPutBack: s.panesPutBack,
      pad: s.pad,
      dialog: s.dialog,
      fault: s.fault,
      set: s.set,
      say: s.say,
    })),
  );
}

export const now = (): Ui => useUi.getState();
