import { distance, type FramePt } from "./points";
import { contains, outlineCurve } from "./spline";
import type { Outline, Pair } from "../features/recipe";

/**
 * Editing a closed outline by hand. Pure: what lies under the pointer, and what an outline becomes. Points are in px of
 * the space the outline is drawn in; `reach` is how near counts as hit.
 */
export type Grip =
  { kind: "point"; index: number } | { kind: "edge"; index: number } | { kind: "inside" } | null;

const MOST_TIMES = 50;
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
  const between = o.feathers && (o.feathers[after]! + o.feathers[(after + 1) % o.feathers.length]!) / 2;
  return {
    points: insert(o.points, [p.x, p.y]),
    corners: insert(o.corners, false),
    ...(o.feathers ? { feathers: insert(o.feathers, between!) } : {}),
  };
}

/** An outline keeps at least three points. */
export function removePoint(o: Outline, index: number): Outline {
  if (o.points.length <= 3) return o;
  const left = <T>(list: T[]): T[] => list.filter((_, i) => i !== index);
  return {
    points: left(o.points),
    corners: left(o.corners),
    ...(o.feathers ? { feathers: left(o.feathers) } : {}),
  };
}

export function toggleCorner(o: Outline, index: number): Outline {
  return { ...o, corners: o.corners.map((c, i) => (i === index ? !c : c)) };
}

/** How soft the edge is at one point, as a multiple of the veil's feather. */
export function setFeather(o: Outline, index: number, times: number): Outline {
  const all = o.feathers ?? o.points.map(() => 1);
  const kept = Math.min(MOST_TIMES, Math.max(0, times));
  return { ...o, feathers: all.map((f, i) => (i === index ? kept : f)) };
}

/** Where the feather ends, `feather` being how wide it is where it is taken once: a closed curve around the outline's. */
export function featherCurve(o: Outline, feather: number): FramePt[] {
  const points = pts(o);
  const curve = outlineCurve(points, o.corners);
  const area = curve.reduce((sum, a, i) => {
    const b = curve[(i + 1) % curve.length]!;
    return sum + a.x * b.y - b.x * a.y;
  }, 0);
  const side = Math.sign(area) || 1;
  let first = 0;
  return curve.map((p, i) => {
    if (first + 1 < points.length && p.x === points[first + 1]!.x && p.y === points[first + 1]!.y) first++;
    const before = curve[(i - 1 + curve.length) % curve.length]!;
    const after = curve[(i + 1) % curve.length]!;
    const [dx, dy] = [after.x - before.x, after.y - before.y];
    const length = Math.hypot(dx, dy) || 1;
    const [a, b] = [points[first]!, points[(first + 1) % points.length]!];
    const part = distance(a, p) / (distance(a, p) + distance(p, b) || 1);
    const times = o.feathers
      ? (1 - part) * o.feathers[first]! + part * o.feathers[(first + 1) % points.length]!
      : 1;
    return {
      x: p.x + (side * dy * feather * times) / length,
      y: p.y - (side * dx * feather * times) / length,
    };
  });
}

/** How much larger a shape is drawn than it was: the ratio of the lengths around both. */
export function grownBy(before: readonly Pair[], after: readonly Pair[]): number {
  const around = (points: readonly Pair[]) =>
    points.reduce((sum, [x, y], i) => {
      const [u, v] = points[(i + 1) % points.length]!;
      return sum + Math.hypot(u - x, v - y);
    }, 0);
  return around(after) / (around(before) || 1);
}

/** The outline grown or shrunk about its centre. */
export function scaledOutline(o: Outline, factor: number): Outline {
  const cx = o.points.reduce((s, p) => s + p[0], 0) / o.points.length;
  const cy = o.points.reduce((s, p) => s + p[1], 0) / o.points.length;
  return { ...o, points: o.points.map(([x, y]) => [cx + (x - cx) * factor, cy + (y - cy) * factor]) };
}
