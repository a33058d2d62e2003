import type { Pair, Veil } from "../recipe";

export const BRUSH_TOOLS = ["heal", "clone", "colour", "soften", "erase", "restore"] as const;
export const SELECTION_TOOLS = ["add", "take"] as const;
export type SelectionTool = (typeof SELECTION_TOOLS)[number];
export type BrushTool = (typeof BRUSH_TOOLS)[number];
export const BRUSH_PARTS = ["whole", "tone", "texture"] as const;
export type BrushPart = (typeof BRUSH_PARTS)[number];

/** What the brush is set to; kept while one paints, and not part of a recipe. */
export interface Brush {
  tool: BrushTool;
  /** What it does where a selection is corrected. */
  selects: SelectionTool;
  part: BrushPart;
  sampling: "painted" | "original";
  radius: number;
  softness: number;
  opacity: number;
  flow: number;
  amount: number;
  colour: string;
  /** Where clone and heal sample: a place, and whether it goes along with the strokes. */
  source: Pair | null;
  follows: boolean;
  /** Set by the first stroke after a source was chosen. */
  offset: Pair | null;
}

export const FIRST_BRUSH: Brush = {
  tool: "heal",
  selects: "take",
  part: "whole",
  sampling: "painted",
  radius: 12,
  softness: 0.5,
  opacity: 1,
  flow: 1,
  amount: 3,
  colour: "#c08a70",
  source: null,
  follows: true,
  offset: null,
};

/** A stroke as the recipe holds it; defaults are left out. */
export interface Stroke {
  tool: BrushTool | SelectionTool;
  points: (Pair | [number, number, number])[];
  radius?: number;
  softness?: number;
  opacity?: number;
  flow?: number;
  part?: BrushPart;
  sampling?: "painted" | "original";
  offset?: Pair;
  colour?: string;
  amount?: number;
  enabled?: boolean;
}

/** The parameter that a veil's strokes stand in; null where nothing is drawn by brush. */
export const strokeParam = (veil: Veil): "strokes" | "selection" | null =>
  veil.kind === "paint" ? "strokes" : veil.kind === "smooth" ? "selection" : null;

export const strokesOf = (veil: Veil): Stroke[] =>
  (veil.params?.[strokeParam(veil) ?? "strokes"] as Stroke[] | undefined) ?? [];

/** A stroke that adds to a selection, or takes from it. */
export function selectionStroke(brush: Brush, points: Stroke["points"]): Stroke | null {
  if (!points.length) return null;
  const { selects, radius, softness, opacity, flow } = brush;
  return {
    tool: selects,
    points: thinned(points, Math.max(radius / 6, 0.75)),
    radius,
    softness,
    opacity,
    flow,
  };
}

export const samples = (tool: BrushTool): boolean => tool === "clone" || tool === "heal";

const round = (v: number): number => Math.round(v * 100) / 100;

/** The step from a stroke's first point to where it samples; null where no source has been chosen. */
export function offsetFor(brush: Brush, start: Pair): Pair | null {
  if (!samples(brush.tool)) return [0, 0];
  if (brush.follows && brush.offset) return brush.offset;
  if (!brush.source) return null;
  return [round(brush.source[0] - start[0]), round(brush.source[1] - start[1])];
}

/** A stroke along points of the reference; null while clone or heal do not know where to sample. */
export function strokeWith(brush: Brush, points: Stroke["points"]): Stroke | null {
  const first = points[0];
  if (!first) return null;
  const offset = offsetFor(brush, [first[0], first[1]]);
  if (!offset) return null;
  const stroke: Stroke = {
    tool: brush.tool,
    points: thinned(points, Math.max(brush.radius / 6, 0.75)),
    radius: brush.radius,
    softness: brush.softness,
    opacity: brush.opacity,
    flow: brush.flow,
  };
  if (brush.part !== "whole" && brush.tool !== "erase") stroke.part = brush.part;
  if (samples(brush.tool)) Object.assign(stroke, { offset, sampling: brush.sampling });
  if (brush.tool === "colour") stroke.colour = brush.colour;
  if (brush.tool === "soften") stroke.amount = brush.amount;
  return stroke;
}

/** The strokes with one of them moved by a step of the reference; what it samples stays where it is. */
export function withMoved(strokes: readonly Stroke[], index: number, [dx, dy]: Pair): Stroke[] {
  return strokes.map((s, i) => {
    if (i !== index) return s;
    const points = s.points.map(([x, y, ...pressure]) => [round(x + dx), round(y + dy), ...pressure] as Pair);
    const offset = s.offset && ([round(s.offset[0] - dx), round(s.offset[1] - dy)] as Pair);
    return { ...s, points, ...(offset ? { offset } : {}) };
  });
}

/** Without points that lie nearer to the one before than `least`; both ends stay. */
export function thinned(points: Stroke["points"], least: number): Stroke["points"] {
  const kept: Stroke["points"] = [];
  points.forEach((p, i) => {
    const last = kept[kept.length - 1];
    if (!last || i === points.length - 1 || Math.hypot(p[0] - last[0], p[1] - last[1]) >= least)
      kept.push(p.map(round) as Pair);
  });
  return kept;
}
