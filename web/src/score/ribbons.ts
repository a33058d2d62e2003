/** Drawing of the score's ribbons. Pure but for the canvas it is given. */
export interface Scale {
  first: number;
  last: number;
  width: number;
}

export const xOf = (s: Scale, frame: number): number =>
  ((frame - s.first + 0.5) / (s.last - s.first + 1)) * s.width;

export function frameAt(s: Scale, x: number): number {
  const frame = Math.floor((x / Math.max(s.width, 1)) * (s.last - s.first + 1)) + s.first;
  return Math.min(s.last, Math.max(s.first, frame));
}

/** A step between ruler labels that leaves room for them. */
export function rulerStep(count: number, width: number): number {
  const wanted = (count / Math.max(width, 1)) * 62;
  for (const step of [1, 2, 5, 10, 20, 25, 50, 100, 200, 250, 500, 1000, 2000, 5000, 10000])
    if (step >= wanted) return step;
  return 50000;
}

type Ctx = CanvasRenderingContext2D;

/** A curve from its own lowest to its own highest value, filled below. */
export function drawCurve(
  ctx: Ctx,
  s: Scale,
  height: number,
  values: readonly number[],
  start: number,
  colour: string,
): void {
  if (values.length === 0) return;
  const low = Math.min(...values);
  const span = Math.max(...values) - low || 1;
  const y = (v: number) => height - 2 - ((v - low) / span) * (height - 5);
  ctx.beginPath();
  values.forEach((v, i) => {
    const x = xOf(s, start + i);
    if (i === 0) ctx.moveTo(x, y(v));
    else ctx.lineTo(x, y(v));
  });
  ctx.strokeStyle = colour;
  ctx.lineWidth = 1.3;
  ctx.stroke();
  ctx.lineTo(xOf(s, start + values.length - 1), height);
  ctx.lineTo(xOf(s, start), height);
  ctx.closePath();
  ctx.globalAlpha = 0.16;
  ctx.fillStyle = colour;
  ctx.fill();
  ctx.globalAlpha = 1;
}

export interface Cell {
  frame: number;
  colour: string;
  /** 0 to 1: how high the bar stands. */
  height: number;
  /** A notch at the top, so that the judgement is not colour alone. */
  notch: boolean;
}

export function drawCells(ctx: Ctx, s: Scale, height: number, cells: readonly Cell[]): void {
  const w = Math.max(s.width / (s.last - s.first + 1), 1);
  for (const c of cells) {
    const x = xOf(s, c.frame) - w / 2;
    const h = Math.max(2, c.height * (height - 3));
    ctx.fillStyle = c.colour;
    ctx.globalAlpha = 0.85;
    ctx.fillRect(x, height - h, Math.max(w - (w > 3 ? 1 : 0), 1), h);
    ctx.globalAlpha = 1;
    if (c.notch) ctx.fillRect(x, 0, Math.max(w - (w > 3 ? 1 : 0), 1), 2.5);
  }
}
