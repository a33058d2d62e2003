/** The closed centripetal spline of `core/geometry/outline.py`, for drawing; the core decides what lies inside. */
interface P {
  x: number;
  y: number;
}

const SAMPLES = 12;
const lerp = (a: P, b: P, t: number): P => ({ x: a.x + (b.x - a.x) * t, y: a.y + (b.y - a.y) * t });
const mirrored = (about: P, p: P): P => ({ x: 2 * about.x - p.x, y: 2 * about.y - p.y });
const knot = (a: P, b: P): number => Math.max(Math.sqrt(Math.hypot(a.x - b.x, a.y - b.y)), 1e-6);

export function outlineCurve(points: readonly P[], corners: readonly boolean[] = []): P[] {
  const n = points.length;
  if (n < 3) return [...points];
  const at = (i: number): P => points[(i + n) % n]!;
  const curve: P[] = [];
  for (let i = 0; i < n; i++) {
    const p1 = at(i);
    const p2 = at(i + 1);
    const here = corners[i] ?? false;
    const next = corners[(i + 1) % n] ?? false;
    if (here && next) {
      curve.push(p1);
      continue;
    }
    const p0 = here ? mirrored(p1, p2) : at(i - 1);
    const p3 = next ? mirrored(p2, p1) : at(i + 2);
    const t1 = knot(p0, p1);
    const t2 = t1 + knot(p1, p2);
    const t3 = t2 + knot(p2, p3);
    for (let s = 0; s < SAMPLES; s++) {
      const t = t1 + ((t2 - t1) * s) / SAMPLES;
      const a1 = lerp(p0, p1, t / t1);
      const a2 = lerp(p1, p2, (t - t1) / (t2 - t1));
      const a3 = lerp(p2, p3, (t - t2) / (t3 - t2));
      const b1 = lerp(a1, a2, t / t2);
      const b2 = lerp(a2, a3, (t - t1) / (t3 - t1));
      curve.push(lerp(b1, b2, (t - t1) / (t2 - t1)));
    }
  }
  return curve;
}

/** Whether a point lies within a polygon (even-odd). */
export function contains(polygon: readonly P[], p: P): boolean {
  let inside = false;
  for (let i = 0, j = polygon.length - 1; i < polygon.length; j = i++) {
    const a = polygon[i]!;
    const b = polygon[j]!;
    if (a.y > p.y !== b.y > p.y && p.x < ((b.x - a.x) * (p.y - a.y)) / (b.y - a.y) + a.x) inside = !inside;
  }
  return inside;
}

/** A circle as an outline of eight smooth points. */
export function circleOutline(centre: P, radius: number): [number, number][] {
  return Array.from({ length: 8 }, (_, i) => {
    const a = (i / 8) * 2 * Math.PI;
    return [round(centre.x + radius * Math.cos(a)), round(centre.y + radius * Math.sin(a))];
  });
}

export const round = (v: number): number => Math.round(v * 100) / 100;
