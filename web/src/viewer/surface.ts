import type { FramePt } from "../geometry/points";
import { matrixMap, meshMap, reversed, still, chained, type SurfaceMap } from "../geometry/surfaceMap";
import type { Track } from "../features/queries";
import { readOutline, type Drape, type Holdout, type Outline, type Veil } from "../features/recipe";
import { shapeOn, type Shapes } from "../geometry/keyedShape";

/** A drape's track as the views use it; `positions` come later than the rest. */
export interface Surface {
  track: Track | null | undefined;
  positions: Float32Array | undefined;
  /** How far each vertex is expected to be off, (T, V) in px. */
  errors?: Float32Array;
}

/** The map from the reference to a frame; null where the surface has not been followed. */
export function frameFromRef({ track, positions }: Surface, drape: Drape, frame: number): SurfaceMap | null {
  const reference = drape.reference_frames[0]!;
  if (frame === reference) return still;
  const row = track?.rowOf.get(frame);
  if (track === null || track === undefined || row === undefined) return null;
  const matrix = track.homographies?.[row];
  if (matrix) return matrixMap(matrix);
  const home = track.rowOf.get(reference);
  if (!positions || home === undefined) return null;
  const at = (r: number) => ({ values: positions, offset: r * track.vertices * 2 });
  return meshMap(at(home), at(row), track.triangles);
}

/** The map from the frame on which a veil is drawn to another frame. */
export function frameFromDesign(
  surface: Surface,
  drape: Drape,
  veil: Veil,
  frame: number,
): SurfaceMap | null {
  if (frame === veil.frame) return still;
  const here = frameFromRef(surface, drape, frame);
  const design = frameFromRef(surface, drape, veil.frame);
  return here && design ? chained(reversed(design), here) : null;
}

export const carried = (outline: Outline, map: SurfaceMap): FramePt[] =>
  outline.points.map(([x, y]) => map.there<FramePt>({ x, y }));

export const veilOutline = (veil: Veil): Outline => readOutline(veil.outline);

/** Keys carried to the reference, where they are compared; those whose frame is not followed are left out. */
function onReference(surface: Surface, drape: Drape, keys: Shapes): Shapes {
  return keys.flatMap(([f, o]): [number, Outline][] => {
    const map = frameFromRef(surface, drape, f);
    if (!map) return [];
    return [[f, { ...o, points: carried(o, reversed(map)).map((p): [number, number] => [p.x, p.y]) }]];
  });
}

const written = (shapes: Record<string, unknown> | undefined): [number, Outline][] =>
  Object.entries(shapes ?? {}).map(([f, o]) => [Number(f), readOutline(o)]);

export const veilKeys = (veil: Veil): Shapes => [[veil.frame, veilOutline(veil)], ...written(veil.shapes)];

/** A veil's outline on the reference, as it is on `frame`; null where none of its keys is followed. */
export function veilOnReference(surface: Surface, drape: Drape, veil: Veil, frame: number): Outline | null {
  const keys = onReference(surface, drape, veilKeys(veil));
  return keys.length > 0 ? shapeOn(keys, frame) : null;
}

/** A holdout's outline on a frame; `drape` is what it rides on, null for the picture. */
export function holdoutOn(
  surface: Surface,
  drape: Drape | null,
  holdout: Holdout,
  frame: number,
): Outline | null {
  const keys = written(holdout.shapes);
  if (!drape) return shapeOn(keys, frame);
  const here = frameFromRef(surface, drape, frame);
  const home = onReference(surface, drape, keys);
  if (!here || home.length === 0) return null;
  const there = shapeOn(home, frame);
  return { ...there, points: carried(there, here).map((p): [number, number] => [p.x, p.y]) };
}

/** Status and expected error of a drape on a frame, in words. */
export function statusAt(
  track: Track | null | undefined,
  frame: number,
): { status: string; error: number | null } {
  const row = track?.rowOf.get(frame);
  if (!track || row === undefined) return { status: "unfollowed", error: null };
  return { status: track.status[row] ?? "unfollowed", error: track.error_px[row] ?? null };
}
