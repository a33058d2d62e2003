/** Points in three spaces that must not be mixed: px of the frame, px of the reference frame, px of the screen. */
import { round } from "./spline";

declare const space: unique symbol;

export interface FramePt {
  readonly x: number;
  readonly y: number;
  readonly [space]?: "frame";
}
export interface RefPt {
  readonly x: number;
  readonly y: number;
  readonly [space]?: "ref";
}
export interface ScreenPt {
  readonly x: number;
  readonly y: number;
  readonly [space]?: "screen";
}

/** A point as recipes keep it, to a hundredth of a px. */
export const pair = (p: { x: number; y: number }): [number, number] => [round(p.x), round(p.y)];

export const distance = (a: { x: number; y: number }, b: { x: number; y: number }): number =>
  Math.hypot(a.x - b.x, a.y - b.y);

export function centreOf<P extends { x: number; y: number }>(points: readonly P[]): P {
  const n = Math.max(points.length, 1);
  const sum = points.reduce((s, p) => ({ x: s.x + p.x, y: s.y + p.y }), { x: 0, y: 0 });
  return { x: sum.x / n, y: sum.y / n } as P;
}
