/** How points go between two pictures of one surface: there, and back again. */
import { identity, inverse, mapPoint, type Matrix } from "./homography";

export interface XY {
  x: number;
  y: number;
}
export interface SurfaceMap {
  readonly there: <P extends XY>(p: P) => P;
  readonly back: <P extends XY>(p: P) => P;
}

export function matrixMap(m: Matrix): SurfaceMap {
  const undo = inverse(m);
  return { there: (p) => mapPoint(m, p), back: (p) => mapPoint(undo, p) };
}

export const still: SurfaceMap = matrixMap(identity);

/** First `a`, then `b`. */
export const chained = (a: SurfaceMap, b: SurfaceMap): SurfaceMap => ({
  there: (p) => b.there(a.there(p)),
  back: (p) => a.back(b.back(p)),
});

export const reversed = (a: SurfaceMap): SurfaceMap => ({ there: a.back, back: a.there });

/** Vertices as x, y pairs that begin at `offset` of a longer list. */
export interface Vertices {
  values: Float32Array;
  offset: number;
}

/** Piecewise affine over triangles (vertex numbers, three each); beyond the mesh the nearest triangle goes on. */
export function meshMap(a: Vertices, b: Vertices, triangles: readonly number[]): SurfaceMap {
  return {
    there: (p) => carried(a, b, triangles, p),
    back: (p) => carried(b, a, triangles, p),
  };
}

function carried<P extends XY>(from: Vertices, to: Vertices, triangles: readonly number[], p: P): P {
  let best = Infinity;
  let out: XY = p;
  const { values: f, offset: fo } = from;
  const { values: t, offset: to0 } = to;
  for (let i = 0; i < triangles.length; i += 3) {
    const a = 2 * triangles[i]!;
    const b = 2 * triangles[i + 1]!;
    const c = 2 * triangles[i + 2]!;
    const ax = f[fo + a]!;
    const ay = f[fo + a + 1]!;
    const bx = f[fo + b]! - ax;
    const by = f[fo + b + 1]! - ay;
    const cx = f[fo + c]! - ax;
    const cy = f[fo + c + 1]! - ay;
    const det = bx * cy - by * cx;
    if (Math.abs(det) < 1e-12) continue;
    const u = ((p.x - ax) * cy - (p.y - ay) * cx) / det;
    const v = (bx * (p.y - ay) - by * (p.x - ax)) / det;
    // How far outside, in px: the least barycentric share times the triangle's size.
    const outside = Math.max(0, -Math.min(u, v, 1 - u - v)) * Math.sqrt(Math.abs(det));
    if (outside >= best) continue;
    best = outside;
    const w = 1 - u - v;
    out = {
      x: w * t[to0 + a]! + u * t[to0 + b]! + v * t[to0 + c]!,
      y: w * t[to0 + a + 1]! + u * t[to0 + b + 1]! + v * t[to0 + c + 1]!,
    };
    if (outside < 1e-6) break;
  }
  return out as P;
}
