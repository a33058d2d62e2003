import { mapPoint, type Matrix } from "./homography";
import type { FramePt } from "./points";

/** Where artwork lies on the reference frame; the same rule as the core's `veils/apply/place.py`. */
export interface ArtPlace {
  across: number;
  down: number;
  size: number;
  stretch: number;
  turn: number;
  /** Steps of the corners: top left, top right, bottom right, bottom left. */
  corners: readonly FramePt[];
  /** Steps of a square grid of points, row by row, or none. */
  bend: readonly (readonly [number, number])[];
}

/** Maps places of the artwork, from 0 to 1 across and down, to the reference frame, before the bend grid. */
export function artToReference(
  place: ArtPlace,
  art: { width: number; height: number },
  outline: readonly FramePt[],
): (u: number, v: number) => FramePt {
  const xs = outline.map((p) => p.x);
  const ys = outline.map((p) => p.y);
  const low = { x: Math.min(...xs), y: Math.min(...ys) };
  const high = { x: Math.max(...xs), y: Math.max(...ys) };
  const fit = Math.min((high.x - low.x) / art.width, (high.y - low.y) / art.height) * place.size;
  const angle = (place.turn * Math.PI) / 180;
  const c = Math.cos(angle);
  const s = Math.sin(angle);
  const middle = { x: (low.x + high.x) / 2 + place.across, y: (low.y + high.y) / 2 + place.down };
  const similar = (u: number, v: number): FramePt => {
    const x = (u - 0.5) * art.width * fit;
    const y = (v - 0.5) * art.height * fit * place.stretch;
    return { x: c * x - s * y + middle.x, y: s * x + c * y + middle.y };
  };
  if (place.corners.every((p) => p.x === 0 && p.y === 0)) return similar;
  const square = [
    { x: 0, y: 0 },
    { x: 1, y: 0 },
    { x: 1, y: 1 },
    { x: 0, y: 1 },
  ];
  const target = square.map((q, i) => {
    const p = similar(q.x, q.y);
    return { x: p.x + place.corners[i]!.x, y: p.y + place.corners[i]!.y };
  });
  const m = squareTo(target);
  return (u, v) => mapPoint(m, { x: u, y: v });
}

/** The homography that takes the unit square's corners to four points (Heckbert 1989, section 2.2.3). */
export function squareTo(p: readonly FramePt[]): Matrix {
  const [a, b, c, d] = p as [FramePt, FramePt, FramePt, FramePt];
  const sx = a.x - b.x + c.x - d.x;
  const sy = a.y - b.y + c.y - d.y;
  const dx1 = b.x - c.x;
  const dx2 = d.x - c.x;
  const dy1 = b.y - c.y;
  const dy2 = d.y - c.y;
  const det = dx1 * dy2 - dx2 * dy1 || 1e-12;
  const g = (sx * dy2 - dx2 * sy) / det;
  const h = (dx1 * sy - sx * dy1) / det;
  return [
    b.x - a.x + g * b.x,
    d.x - a.x + h * d.x,
    a.x,
    b.y - a.y + g * b.y,
    d.y - a.y + h * d.y,
    a.y,
    g,
    h,
    1,
  ];
}
