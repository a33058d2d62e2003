import { valueAt, withKey, type Value, type Veil } from "../features/recipe";
import { artToReference, type ArtPlace } from "../geometry/artPlacement";
import type { FramePt } from "../geometry/points";
import { round } from "../geometry/spline";
import type { SurfaceMap } from "../geometry/surfaceMap";

export const CORNER_NAMES = ["top_left", "top_right", "bottom_right", "bottom_left"] as const;

/** What can be taken hold of in a view: lines to draw, and points to drag. */
export interface GripItem {
  lines: FramePt[][];
  points: { id: string; at: FramePt }[];
  /** The point `id` was dragged; `done` is false while it still is. */
  onDrag: (id: string, to: FramePt, done: boolean) => void;
}

type Params = Record<string, unknown>;
const number = (params: Params, name: string, otherwise: number, frame: number): number =>
  valueAt((params[name] as Value | undefined) ?? otherwise, frame);

function placeOf(params: Params, frame: number): ArtPlace {
  return {
    across: number(params, "across", 0, frame),
    down: number(params, "down", 0, frame),
    size: number(params, "size", 1, frame),
    stretch: number(params, "stretch", 1, frame),
    turn: number(params, "turn", 0, frame),
    corners: CORNER_NAMES.map((c) => ({
      x: number(params, `${c}_x`, 0, frame),
      y: number(params, `${c}_y`, 0, frame),
    })),
    bend: (params.bend as [number, number][] | undefined) ?? [],
  };
}

/** Parameters with a number moved by a step: on this frame where it is keyed, on all frames where it is not. */
function moved(params: Params, name: string, step: number, frame: number): Params {
  const value = (params[name] as Value | undefined) ?? 0;
  const to = round(valueAt(value, frame) + step);
  return { ...params, [name]: typeof value === "number" ? to : withKey(value, frame, to) };
}

/** The artwork of an apply veil as it can be held: its frame, its middle, its corners and its bend grid. */
export function artGrips(
  veil: Veil,
  art: { width: number; height: number },
  outlineRef: readonly FramePt[],
  viewFromRef: SurfaceMap,
  frame: number,
  onChange: (params: Params, done: boolean) => void,
): GripItem {
  const params = veil.params ?? {};
  const place = placeOf(params, frame);
  const flat = artToReference(place, art, outlineRef);
  const side = Math.round(Math.sqrt(place.bend.length));
  const grid = place.bend.map(([dx, dy], i) => {
    const p = flat((i % side) / (side - 1), Math.floor(i / side) / (side - 1));
    return { x: p.x + dx, y: p.y + dy };
  });
  const seen = (p: FramePt): FramePt => viewFromRef.there(p);
  const along = (a: [number, number], b: [number, number]): FramePt[] =>
    Array.from({ length: 9 }, (_, i) =>
      seen(flat(a[0] + ((b[0] - a[0]) * i) / 8, a[1] + ((b[1] - a[1]) * i) / 8)),
    );
  const square: [number, number][] = [
    [0, 0],
    [1, 0],
    [1, 1],
    [0, 1],
  ];
  const gridLines = Array.from({ length: side }, (_, r) => [
    grid.slice(r * side, (r + 1) * side).map(seen),
    grid.filter((_, i) => i % side === r).map(seen),
  ]).flat();
  return {
    lines: side > 1 ? gridLines : square.map((a, i) => along(a, square[(i + 1) % 4]!)),
    points: [
      { id: "middle", at: seen(flat(0.5, 0.5)) },
      ...square.map(([u, v], i) => ({ id: CORNER_NAMES[i]!, at: seen(flat(u, v)) })),
      ...grid.map((p, i) => ({ id: `bend ${i}`, at: seen(p) })),
    ],
    onDrag: (id, to, done) => {
      const ref = viewFromRef.back(to);
      if (id.startsWith("bend ")) {
        const i = Number(id.slice(5));
        const step = [round(ref.x - grid[i]!.x), round(ref.y - grid[i]!.y)] as const;
        const bend = place.bend.map((b, j) => (j === i ? [round(b[0] + step[0]), round(b[1] + step[1])] : b));
        return onChange({ ...params, bend }, done);
      }
      const corner = CORNER_NAMES.findIndex((c) => c === id);
      const from = corner < 0 ? flat(0.5, 0.5) : flat(...square[corner]!);
      const names = corner < 0 ? (["across", "down"] as const) : ([`${id}_x`, `${id}_y`] as const);
      const once = moved(params, names[0], ref.x - from.x, frame);
      onChange(moved(once, names[1], ref.y - from.y, frame), done);
    },
  };
}
