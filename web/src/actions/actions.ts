import { forgetSizes } from "../app/Panes";
import { SPAN_FRAMES, STUCK, useUi, type Look, type Stage } from "../app/store";

/** What an action may need of the place it is called in. */
export interface Doing {
  first: number;
  last: number;
  inFrame: number;
  outFrame: number;
  canUndo: boolean;
  canRedo: boolean;
  hasDrape: boolean;
  canPaint: boolean;
  move: (to: "undo" | "redo") => void;
  setRange: (inFrame: number, outFrame: number) => void;
  follow: (part: "all" | "forwards" | "backwards" | "here") => void;
  prove: () => void;
}

export interface Action {
  id: string;
  label: string;
  group: string;
  /** As in KeyboardEvent.key, with Ctrl+ or Shift+ before it. */
  keys: string[];
  /** Also works while the key is held; `release` undoes it. */
  release?: () => void;
  when?: (d: Doing) => boolean;
  run: (d: Doing) => void;
}

const ui = () => useUi.getState();
const goTo = (frame: number, d: Doing) =>
  ui().set({ frame: Math.min(d.last, Math.max(d.first, frame)), playing: 0 });
const step = (by: number) => (d: Doing) => goTo(ui().frame + by, d);

function shuttle(direction: number): void {
  const { playing, set } = ui();
  const same = Math.sign(playing) === direction;
  set({ playing: same ? Math.max(-8, Math.min(8, playing * 2)) : direction });
}

function look(value: Look): Action["run"] {
  return () => ui().set({ look: value });
}

const stageAction = (stage: Stage, label: string, key: string): Action => ({
  id: `stage.${stage}`,
  label: `Stage: ${label}`,
  group: "Stages",
  keys: [key],
  run: () => ui().set({ stage }),
});

/** Every action there is: toolbars, the search palette, shortcuts and the help sheet all read this list. */
export const ACTIONS: Action[] = [
  {
    id: "play",
    label: "Play or pause",
    group: "Playing",
    keys: [" "],
    run: () => ui().set({ playing: ui().playing === 0 ? 1 : 0 }),
  },
  {
    id: "shuttle.back",
    label: "Play backwards; again: faster",
    group: "Playing",
    keys: ["j"],
    run: () => shuttle(-1),
  },
  { id: "shuttle.stop", label: "Stop", group: "Playing", keys: ["k"], run: () => ui().set({ playing: 0 }) },
  { id: "shuttle.on", label: "Play; again: faster", group: "Playing", keys: ["l"], run: () => shuttle(1) },
  {
    id: "loop",
    label: "Loop on or off",
    group: "Playing",
    keys: [";"],
    run: () => ui().set({ loop: !ui().loop }),
  },
  { id: "step.on", label: "One frame on", group: "Playing", keys: ["ArrowRight"], run: step(1) },
  { id: "step.back", label: "One frame back", group: "Playing", keys: ["ArrowLeft"], run: step(-1) },
  { id: "step.on10", label: "Ten frames on", group: "Playing", keys: ["Shift+ArrowRight"], run: step(10) },
  {
    id: "step.back10",
    label: "Ten frames back",
    group: "Playing",
    keys: ["Shift+ArrowLeft"],
    run: step(-10),
  },
  {
    id: "go.in",
    label: "Go to the in frame",
    group: "Playing",
    keys: ["Home"],
    run: (d) => goTo(d.inFrame, d),
  },
  {
    id: "go.out",
    label: "Go to the out frame",
    group: "Playing",
    keys: ["End"],
    run: (d) => goTo(d.outFrame, d),
  },
  {
    id: "set.in",
    label: "Set in here",
    group: "Range",
    keys: ["i"],
    run: (d) => d.setRange(ui().frame, Math.max(ui().frame, d.outFrame)),
  },
  {
    id: "set.out",
    label: "Set out here",
    group: "Range",
    keys: ["o"],
    run: (d) => d.setRange(Math.min(ui().frame, d.inFrame), ui().frame),
  },
  {
    id: "range.all",
    label: "Range: the whole shot",
    group: "Range",
    keys: ["Shift+I"],
    run: (d) => d.setRange(d.first, d.last),
  },
  {
    id: "undo",
    label: "Undo",
    group: "Editing",
    keys: ["Ctrl+z"],
    when: (d) => d.canUndo,
    run: (d) => d.move("undo"),
  },
  {
    id: "redo",
    label: "Redo",
    group: "Editing",
    keys: ["Ctrl+Shift+Z", "Ctrl+y"],
    when: (d) => d.canRedo,
    run: (d) => d.move("redo"),
  },
  {
    id: "history",
    label: "History and versions",
    group: "Editing",
    keys: ["Ctrl+h"],
    run: () => ui().set({ dialog: "history" }),
  },
  {
    id: "tool.spot",
    label: "Take a spot off",
    group: "Making",
    keys: ["t"],
    run: () => ui().set({ tool: "spot", playing: 0 }),
  },
  {
    id: "tool.drape",
    label: "Draw a drape",
    group: "Making",
    keys: ["d"],
    run: () => ui().set({ tool: "outline", playing: 0 }),
  },
  {
    id: "tool.holdout",
    label: "Hold out what passes in front",
    group: "Making",
    keys: ["x"],
    run: () => ui().set({ tool: "holdout", playing: 0 }),
  },
  {
    id: "tool.mark",
    label: "Mark a spot on the drape",
    group: "Making",
    keys: ["m"],
    when: (d) => d.hasDrape,
    run: () => ui().set({ tool: "mark", playing: 0 }),
  },
  {
    id: "tool.tack",
    label: "Tack the surface to where it is",
    group: "Making",
    keys: ["c"],
    when: (d) => d.hasDrape,
    run: () => ui().set({ tool: "tack", playing: 0 }),
  },
  {
    id: "tool.brush",
    label: "Take the brush",
    group: "Making",
    keys: ["a"],
    when: (d) => d.canPaint,
    run: () => ui().set({ tool: "brush", playing: 0, flatShown: true }),
  },
  {
    id: "tool.source",
    label: "Set the brush's source",
    group: "Making",
    keys: ["n"],
    when: (d) => d.canPaint,
    run: () => ui().set({ tool: "source", playing: 0 }),
  },
  {
    id: "brush.smaller",
    label: "Brush smaller",
    group: "Making",
    keys: ["["],
    run: () => ui().set({ brush: { ...ui().brush, radius: Math.max(0.5, ui().brush.radius / 1.15) } }),
  },
  {
    id: "brush.larger",
    label: "Brush larger",
    group: "Making",
    keys: ["]"],
    run: () => ui().set({ brush: { ...ui().brush, radius: Math.min(500, ui().brush.radius * 1.15) } }),
  },
  {
    id: "tool.none",
    label: "Put the tool down",
    group: "Making",
    keys: ["Escape"],
    run: () => ui().set({ tool: "none", fault: null }),
  },
  {
    id: "follow.all",
    label: "Follow the drape over the range",
    group: "Making",
    keys: ["f"],
    when: (d) => d.hasDrape,
    run: (d) => d.follow("all"),
  },
  { id: "prove", label: "Measure the proof", group: "Making", keys: ["p"], run: (d) => d.prove() },
  { id: "look.original", label: "See the original", group: "Seeing", keys: ["q"], run: look("original") },
  { id: "look.result", label: "See the result", group: "Seeing", keys: ["w"], run: look("result") },
  { id: "look.wipe", label: "See a wipe", group: "Seeing", keys: ["e"], run: look("wipe") },
  {
    id: "look.difference",
    label: "See the difference",
    group: "Seeing",
    keys: ["r"],
    run: look("difference"),
  },
  {
    id: "overlays.peek",
    label: "Overlays off while held",
    group: "Seeing",
    keys: ["h"],
    run: () => ui().set({ overlaysHeld: true }),
    release: () => ui().set({ overlaysHeld: false }),
  },
  {
    id: "overlays",
    label: "Overlays on or off",
    group: "Seeing",
    keys: ["Shift+H"],
    run: () => ui().set({ overlaysHidden: !ui().overlaysHidden }),
  },
  {
    id: "stuck",
    label: "Stuck to the surface: grid, checker, dots, trails, nothing",
    group: "Seeing",
    keys: ["g"],
    run: () =>
      ui().selection.kind === "veil"
        ? ui().say("Select the drape first: what is stuck to it would hide the veil.")
        : ui().set({ stuck: STUCK[(STUCK.indexOf(ui().stuck) + 1) % STUCK.length]! }),
  },
  {
    id: "look.tracked",
    label: "See what followers see",
    group: "Seeing",
    keys: ["y"],
    run: look("tracked"),
  },
  {
    id: "lens",
    label: "Lens around the pointer while held",
    group: "Seeing",
    keys: ["z"],
    run: () => ui().set({ lens: true }),
    release: () => ui().set({ lens: false }),
  },
  {
    id: "span",
    label: "Play the frames around here over and over, or the range again",
    group: "Playing",
    keys: ["Shift+L"],
    run: (d) => {
      const { frame, span } = ui();
      const around: [number, number] = [
        Math.max(d.first, frame - SPAN_FRAMES),
        Math.min(d.last, frame + SPAN_FRAMES),
      ];
      ui().set({ span: span ? null : around, loop: true });
    },
  },
  {
    id: "flat",
    label: "Flat view on or off",
    group: "Seeing",
    keys: ["v"],
    run: () => ui().set({ flatShown: !ui().flatShown }),
  },
  {
    id: "flat.larger",
    label: "Flat view larger or smaller",
    group: "Seeing",
    keys: ["Shift+V"],
    run: () => ui().set({ flatShown: true, flatLarge: !ui().flatLarge }),
  },
  {
    id: "panes",
    label: "Panes back to their sizes",
    group: "Seeing",
    keys: ["Shift+U"],
    run: () => {
      forgetSizes();
      ui().set({ panesPutBack: ui().panesPutBack + 1, flatLarge: null });
    },
  },
  {
    id: "pad",
    label: "Pad: dark, middle, light",
    group: "Seeing",
    keys: ["b"],
    run: () => {
      const pads = ["dark", "middle", "light"] as const;
      ui().set({ pad: pads[(pads.indexOf(ui().pad) + 1) % 3]! });
    },
  },
  stageAction("shot", "Shot", "1"),
  stageAction("drape", "Drape", "2"),
  stageAction("veil", "Veil", "3"),
  stageAction("proof", "Proof", "4"),
  stageAction("delivery", "Hand over", "5"),
  {
    id: "bring-in",
    label: "Bring in a clip",
    group: "Library",
    keys: ["Ctrl+o"],
    run: () => ui().set({ dialog: "bring-in" }),
  },
  {
    id: "palette",
    label: "Search what can be done",
    group: "Library",
    keys: ["Ctrl+k"],
    run: () => ui().set({ dialog: "palette" }),
  },
  {
    id: "help",
    label: "Keys and help",
    group: "Library",
    keys: ["?"],
    run: () => ui().set({ dialog: "help" }),
  },
];

/** The name of a pressed key in the list's spelling. */
export function keyName(e: { key: string; ctrlKey: boolean; metaKey: boolean; shiftKey: boolean }): string {
  const control = e.ctrlKey || e.metaKey;
  const shift = e.shiftKey && e.key !== "?";
  const key =
    e.key.length === 1 && shift ? e.key.toUpperCase() : e.key.length === 1 ? e.key.toLowerCase() : e.key;
  return `${control ? "Ctrl+" : ""}${shift ? "Shift+" : ""}${key}`;
}

export function keyLabel(key: string): string {
  const names: Record<string, string> = {
    " ": "Space",
    ArrowLeft: "Left",
    ArrowRight: "Right",
    Escape: "Esc",
  };
  return key
    .split("+")
    .map((part) => names[part] ?? (part.length === 1 ? part.toUpperCase() : part))
    .join("+");
}

export function actionFor(name: string): Action | undefined {
  return ACTIONS.find((a) => a.keys.includes(name));
}
