import type { FramePt } from "../geometry/points";
import { matrixMap, meshMap, reversed, still, chained, type SurfaceMap } from "../geometry/surfaceMap";
import type { Track } from "../features/queries";
import { readOutline, type Drape, type Outline, type Veil } from "../features/recipe";

/** A drape's track as the views use it; `positions` come later than the rest. */
export interface Surface {
  track: Track | null | undefined;
  positions: Float32Array | undefined;
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

/** Status and expected error of a drape on a frame, in words. */
export function statusAt(
  track: Track | null | undefined,
  frame: number,
): { status: string; error: number | null } {
  const row = track?.rowOf.get(frame);
  if (!track || row === undefined) return { status: "unfollowed", error: null };
  return { status: track.status[row] ?? "unfollowed", error: track.error_px[row] ?? null };
}
