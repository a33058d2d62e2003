import type { FramePt, ScreenPt } from "./points";

/**
 * Where a picture stands on the screen. `scale` is screen px per picture px; the picture px (x, y), whose centre is at
 * integers, covers the screen from (x - 0.5) to (x + 0.5).
 */
export interface Viewport {
  readonly scale: number;
  readonly left: number;
  readonly top: number;
}

export const toScreen = (v: Viewport, p: FramePt): ScreenPt => ({
  x: v.left + (p.x + 0.5) * v.scale,
  y: v.top + (p.y + 0.5) * v.scale,
});

export const toFrame = (v: Viewport, p: ScreenPt): FramePt => ({
  x: (p.x - v.left) / v.scale - 0.5,
  y: (p.y - v.top) / v.scale - 0.5,
});

/** The whole picture, centred, with a little room. */
export function fitted(width: number, height: number, boxWidth: number, boxHeight: number): Viewport {
  const scale = Math.max(0.02, Math.min((boxWidth - 16) / width, (boxHeight - 16) / height));
  return { scale, left: (boxWidth - width * scale) / 2, top: (boxHeight - height * scale) / 2 };
}

/** Zoom by a factor around a point of the screen that stays where it is. */
export function zoomedAt(v: Viewport, at: ScreenPt, factor: number): Viewport {
  const scale = Math.min(64, Math.max(0.02, v.scale * factor));
  const k = scale / v.scale;
  return { scale, left: at.x - (at.x - v.left) * k, top: at.y - (at.y - v.top) * k };
}

export const panned = (v: Viewport, dx: number, dy: number): Viewport => ({
  ...v,
  left: v.left + dx,
  top: v.top + dy,
});
