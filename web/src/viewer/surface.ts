import { identity, inverse, mapPoint, multiply, type Matrix } from "../geometry/homography";
import type { FramePt } from "../geometry/points";
import type { Track } from "../features/queries";
import { readOutline, type Drape, type Outline, type Veil } from "../features/recipe";

/** The map from the reference to a frame; null where the surface has not been followed. */
export function frameFromRef(track: Track | null | undefined, drape: Drape, frame: number): Matrix | null {
  if (frame === drape.reference_frames[0]) return identity;
  const row = track?.rowOf.get(frame);
  if (track === null || track === undefined || row === undefined) return null;
  return track.homographies?.[row] ?? null;
}

/** The map from the frame on which a veil is drawn to another frame. */
export function frameFromDesign(
  track: Track | null | undefined,
  drape: Drape,
  veil: Veil,
  frame: number,
): Matrix | null {
  if (frame === veil.frame) return identity;
  const here = frameFromRef(track, drape, frame);
  const design = frameFromRef(track, drape, veil.frame);
  return here && design ? multiply(here, inverse(design)) : null;
}

export const carried = (outline: Outline, m: Matrix): FramePt[] =>
  outline.points.map(([x, y]) => mapPoint(m, { x, y }));

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
