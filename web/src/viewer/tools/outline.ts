import { distance, type FramePt } from "../../geometry/points";
import { contains, outlineCurve } from "../../geometry/spline";
import type { Outline } from "../../features/recipe";

/**
 * Editing a closed outline by hand. Pure: what lies under the pointer, and what an outline becomes. Points are in px of
 * the space the outline is drawn in; `reach` is how near counts as hit.
 */
export type Grip =
  { kind: "point"; index: number } | { kind: "edge"; index: number } | { kind: "inside" } | null;

const pts = (o: Outline): FramePt[] => o.points.map(([x, y]) => ({ x, y }));

export function gripAt(outline: Outline, p: FramePt, reach: number): Grip {
  const points = pts(outline);
  let best = -1;
  points.forEach((q, i) => {
    const d = distance(p, q);
    if (d <= reach && (best < 0 || d < distance(p, points[best]!))) best = i;
  });
  if (best >= 0) return { kind: "point", index: best };
  const curve = outlineCurve(points, outline.corners);
  for (let i = 0; i < curve.length; i++) {
    if (toSegment(p, curve[i]!, curve[(i + 1) % curve.length]!) > reach) continue;
    return { kind: "edge", index: spanOf(outline, curve, i) };
  }
  return contains(curve, p) ? { kind: "inside" } : null;
}

function toSegment(p: FramePt, a: FramePt, b: FramePt): number {
  const dx = b.x - a.x;
  const dy = b.y - a.y;
  const t = Math.max(0, Math.min(1, ((p.x - a.x) * dx + (p.y - a.y) * dy) / (dx * dx + dy * dy || 1)));
  return distance(p, { x: a.x + t * dx, y: a.y + t * dy });
}

/** Which point the curve's sample `i` comes after. */
function spanOf(outline: Outline, curve: readonly FramePt[], i: number): number {
  let span = 0;
  for (let j = 0; j <= i; j++) {
    const at = outline.points.findIndex(([x, y]) => curve[j]!.x === x && curve[j]!.y === y);
    if (at >= 0) span = at;
  }
  return span;
}

export function movePoint(o: Outline, index: number, p: FramePt): Outline {
  return { ...o, points: o.points.map((q, i) => (i === index ? [p.x, p.y] : q)) };
}

export function moveAll(o: Outline, dx: number, dy: number): Outline {
  return { ...o, points: o.points.map(([x, y]) => [x + dx, y + dy]) };
}

export function addPoint(o: Outline, after: number, p: FramePt): Outline {
  const insert = <T>(list: T[], value: T): T[] => [
    ...list.slice(0, after + 1),
    value,
    ...list.slice(after + 1),
  ];
  return { points: insert(o.points, [p.x, p.y]), corners: insert(o.corners, false) };
}

/** An outline keeps at least three points. */
export function removePoint(o: Outline, index: number): Outline {
  if (o.points.length <= 3) return o;
  return { points: o.points.filter((_, i) => i !== index), corners: o.corners.filter((_, i) => i !== index) };
}

export function toggleCorner(o: Outline, index: number): Outline {
  return { ...o, corners: o.corners.map((c, i) => (i === index ? !c : c)) };
}

/** The outline grown or shrunk about its centre. */
export function scaledOutline(o: Outline, factor: number): Outline {
  const cx = o.points.reduce((s, p) => s + p[0], 0) / o.points.length;
  const cy = o.points.reduce((s, p) => s + p[1], 0) / o.points.length;
  return { ...o, points: o.points.map(([x, y]) => [cx + (x - cx) * factor, cy + (y - cy) * factor]) };
}
