/** What can lie on a picture, and be dragged there; all in picture px. */
import type { Outline } from "../features/recipe";
import type { FramePt } from "../geometry/points";

/** An outline that lies on the picture, in picture px. */
export interface OutlineItem {
  id: string;
  label: string;
  outline: Outline;
  /** How far its feather reaches where it is taken once, in picture px; absent: it has none. */
  feather?: number;
  colour: string;
  active: boolean;
  dash?: number[];
  onCommit?: (outline: Outline) => void;
}

export interface DonorItem {
  mark: FramePt;
  donor: FramePt;
  radius: number;
  onCommit?: (donor: FramePt) => void;
}

/** What is stuck to the surface. */
export type MeshItem =
  | {
      kind: "grid";
      positions: Float32Array;
      offset: number;
      edges: readonly (readonly [number, number])[];
      colour: string;
      /** How far each vertex is expected to be off, in px, from `errorsOffset` on; absent: all one colour. */
      errors?: Float32Array;
      errorsOffset?: number;
      /** Vertices that are points followed one by one. */
      points?: readonly number[];
    }
  | { kind: "checker"; corners: FramePt[]; columns: number; shown: boolean[] }
  | { kind: "dots"; points: FramePt[]; colour: string }
  | { kind: "trails"; trails: FramePt[][]; colour: string };

export interface ViewPictures {
  /** Addresses bottom first; a later one may be null while it is not ready. */
  moving: (string | null)[];
  /** The same, exact, for when the picture stands still. */
  still: (string | null)[];
}

export interface BrushItem {
  radius: number;
  /** Null while clone or heal do not know where to sample. */
  sampleAt: (p: FramePt, start: FramePt | null) => FramePt | null;
  onStroke: (points: { x: number; y: number; pressure: number }[], done: boolean) => void;
  onSource: (p: FramePt) => void;
  /** The stroke in hand, as it lies in the picture, and what dragging it does. */
  chosen: FramePt[] | null;
  onMove: (from: FramePt, to: FramePt, done: boolean) => void;
}

export type Drag =
  | { kind: "pan"; x: number; y: number }
  | { kind: "wipe" }
  | { kind: "circle"; centre: FramePt; radius: number }
  | { kind: "donor"; index: number; at: FramePt }
  | { kind: "tack"; from: FramePt; to: FramePt }
  | { kind: "move"; from: FramePt; to: FramePt }
  | { kind: "grip"; id: string; to: FramePt }
  | { kind: "stroke"; points: { x: number; y: number; pressure: number }[] }
  | {
      kind: "outline";
      id: string;
      index: number | null;
      /** How far the feather reaches, when it is that which is dragged. */
      feather: number | null;
      from: FramePt;
      start: Outline;
      now: Outline;
    };

/** A face, or part of one, that is found on its own. */
export interface EllipseItem {
  points: FramePt[];
  colour: string;
  dash?: number[];
}

export interface NoteItem {
  text: string;
  colour: string;
}
