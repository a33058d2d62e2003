import type { Outline, Pair } from "../features/recipe";
import { addPoint, removePoint } from "./outlineEdits";

/** An outline keyed over frames: as many points on each key. */
export type Shapes = readonly (readonly [number, Outline])[];

/** The outline on a frame: held before the first and after the last key, straight in between, as the core reads it. */
export function shapeOn(keys: Shapes, frame: number): Outline {
  const sorted = [...keys].sort((a, b) => a[0] - b[0]);
  const after = sorted.findIndex(([f]) => f > frame);
  if (after === 0) return sorted[0]![1];
  if (after < 0) return sorted[sorted.length - 1]![1];
  const [f0, a] = sorted[after - 1]!;
  const [f1, b] = sorted[after]!;
  const t = (frame - f0) / (f1 - f0);
  const points = a.points.map(([x, y], i): Pair => {
    const [u, v] = b.points[i]!;
    return [x + t * (u - x), y + t * (v - y)];
  });
  if (!a.feathers && !b.feathers) return { points, corners: a.corners };
  const feathers = a.points.map((_, i) => {
    const [from, to] = [a.feathers?.[i] ?? 1, b.feathers?.[i] ?? 1];
    return from + t * (to - from);
  });
  return { points, corners: a.corners, feathers };
}

/** What a hand did to an outline, so that the same can be done to its other keys. */
export function alike(before: Outline, after: Outline, other: Outline, everywhere: boolean): Outline {
  const n = before.points.length;
  const m = after.points.length;
  if (m === n) {
    if (!everywhere) return other;
    // Moved by as much, point by point.
    const points = other.points.map(([x, y], i): Pair => {
      const [ax, ay] = after.points[i]!;
      const [bx, by] = before.points[i]!;
      return [x + ax - bx, y + ay - by];
    });
    return { ...after, points };
  }
  const differs = after.points.findIndex(
    ([x, y], i) => !before.points[i] || x !== before.points[i]![0] || y !== before.points[i]![1],
  );
  const at = differs < 0 ? Math.min(n, m) : differs;
  if (m < n) return removePoint(other, at);
  const [ax, ay] = other.points[(at - 1 + n) % n]!;
  const [bx, by] = other.points[at % n]!;
  return addPoint(other, at - 1, { x: (ax + bx) / 2, y: (ay + by) / 2 });
}
