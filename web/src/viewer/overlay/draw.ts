import type { FramePt } from "../../geometry/points";
import { toScreen, type Viewport } from "../../geometry/viewport";
import { HELD_PX } from "../../features/drape/points";
import type { MeshItem } from "../items";
import { outlineCurve } from "../../geometry/spline";

export const COLOURS = {
  madder: "#e0705a",
  verdigris: "#3fb59b",
  saffron: "#e6b450",
  fail: "#ee6a72",
  ink: "#e4e4e4",
  shade: "rgba(0,0,0,0.65)",
};

export const STATUS_COLOUR: Record<string, string> = {
  ok: COLOURS.verdigris,
  weak: COLOURS.saffron,
  occluded: COLOURS.saffron,
  lost: COLOURS.fail,
  outside: "#8a8a8a",
};

type Ctx = CanvasRenderingContext2D;
const LENS_PX = 72; // its radius on the screen
const LENS_TIMES = 4;

function trace(ctx: Ctx, v: Viewport, points: readonly FramePt[], closed: boolean): void {
  ctx.beginPath();
  points.forEach((p, i) => {
    const s = toScreen(v, p);
    if (i === 0) ctx.moveTo(s.x, s.y);
    else ctx.lineTo(s.x, s.y);
  });
  if (closed) ctx.closePath();
}

/** A line that is seen on light and on dark. */
function stroke(ctx: Ctx, colour: string, width: number, dash: number[] = []): void {
  ctx.setLineDash([]);
  ctx.strokeStyle = COLOURS.shade;
  ctx.lineWidth = width + 1.5;
  ctx.stroke();
  ctx.setLineDash(dash);
  ctx.strokeStyle = colour;
  ctx.lineWidth = width;
  ctx.stroke();
  ctx.setLineDash([]);
}

/** An open line through points. */
export function drawPath(ctx: Ctx, v: Viewport, points: readonly FramePt[], colour: string): void {
  trace(ctx, v, points, false);
  stroke(ctx, colour, 1);
}

/** Something to take hold of: a small square, or a cross for what moves the whole. */
export function drawGrip(ctx: Ctx, v: Viewport, at: FramePt, whole: boolean): void {
  const s = toScreen(v, at);
  ctx.beginPath();
  if (whole) {
    ctx.moveTo(s.x - 7, s.y);
    ctx.lineTo(s.x + 7, s.y);
    ctx.moveTo(s.x, s.y - 7);
    ctx.lineTo(s.x, s.y + 7);
  } else ctx.rect(s.x - 3.5, s.y - 3.5, 7, 7);
  stroke(ctx, COLOURS.saffron, 1.5);
}

export function drawOutline(
  ctx: Ctx,
  v: Viewport,
  points: readonly FramePt[],
  corners: readonly boolean[],
  colour: string,
  options: { handles?: boolean; dash?: number[]; hot?: number | null; width?: number } = {},
): void {
  if (points.length === 0) return;
  trace(ctx, v, points.length >= 3 ? outlineCurve(points, corners) : points, points.length >= 3);
  stroke(ctx, colour, options.width ?? 1.5, options.dash);
  if (!options.handles) return;
  // Handles stay small enough to see the thing they are around.
  const across = Math.hypot(
    points[0]!.x - points[points.length >> 1]!.x,
    points[0]!.y - points[points.length >> 1]!.y,
  );
  const size = Math.max(1.5, Math.min(4, (across * v.scale) / 14));
  points.forEach((p, i) => {
    const s = toScreen(v, p);
    const r = options.hot === i ? size + 1.5 : size;
    ctx.beginPath();
    if (corners[i]) ctx.rect(s.x - r, s.y - r, 2 * r, 2 * r);
    else ctx.arc(s.x, s.y, r, 0, 2 * Math.PI);
    ctx.fillStyle = options.hot === i ? colour : "#1f1f1f";
    ctx.fill();
    ctx.lineWidth = 1.5;
    ctx.strokeStyle = colour;
    ctx.stroke();
  });
}

/** How far a vertex may be off, in px, to be sure, and beyond which it is taken for astray. */
const SURE_PX = 1.25;
const ASTRAY_PX = 4;

type Grid = Extract<MeshItem, { kind: "grid" }>;

/** The mesh stuck to the surface, coloured by how sure each part of it is, or all by how the drape stands. */
export function drawMesh(ctx: Ctx, v: Viewport, mesh: Grid): void {
  const { errors, errorsOffset = 0 } = mesh;
  if (!errors) return drawEdges(ctx, v, mesh, mesh.edges, mesh.colour, 0.5);
  // What is unsure also stands out for those who do not tell these colours apart.
  const parts: [string, number, [number, number][]][] = [
    [COLOURS.verdigris, 0.45, []],
    [COLOURS.saffron, 0.75, []],
    [COLOURS.fail, 1, []],
  ];
  for (const [a, b] of mesh.edges) {
    const off = Math.max(errors[errorsOffset + a]!, errors[errorsOffset + b]!);
    parts[off <= SURE_PX ? 0 : off <= ASTRAY_PX ? 1 : 2]![2].push([a, b]);
  }
  for (const [colour, strength, edges] of parts) drawEdges(ctx, v, mesh, edges, colour, strength);
}

function drawEdges(
  ctx: Ctx,
  v: Viewport,
  { positions, offset }: Grid,
  edges: Grid["edges"],
  colour: string,
  strength: number,
): void {
  ctx.beginPath();
  for (const [a, b] of edges) {
    const ax = positions[offset + 2 * a]!;
    const ay = positions[offset + 2 * a + 1]!;
    const bx = positions[offset + 2 * b]!;
    const by = positions[offset + 2 * b + 1]!;
    ctx.moveTo(v.left + (ax + 0.5) * v.scale, v.top + (ay + 0.5) * v.scale);
    ctx.lineTo(v.left + (bx + 0.5) * v.scale, v.top + (by + 0.5) * v.scale);
  }
  ctx.globalAlpha = strength;
  ctx.lineWidth = 1;
  ctx.strokeStyle = colour;
  ctx.stroke();
  ctx.globalAlpha = 1;
}

/** Points that are followed one by one: full where their own picture holds them, hollow where others carry them. */
export function drawOwnPoints(ctx: Ctx, v: Viewport, mesh: Grid): void {
  const { errors, errorsOffset = 0, positions, offset } = mesh;
  const radius = Math.min(3, Math.max(1.5, 2.5 * v.scale));
  for (const i of mesh.points ?? []) {
    const s = toScreen(v, { x: positions[offset + 2 * i]!, y: positions[offset + 2 * i + 1]! } as FramePt);
    const held = errors !== undefined && errors[errorsOffset + i]! < HELD_PX;
    const colour = held ? COLOURS.verdigris : errors ? COLOURS.saffron : mesh.colour;
    ctx.beginPath();
    ctx.arc(s.x, s.y, radius, 0, 2 * Math.PI);
    stroke(ctx, colour, 1.2);
    if (!held) continue;
    ctx.fillStyle = colour;
    ctx.fill();
  }
}

/** A checkerboard stuck to the surface: (columns + 1) x (rows + 1) corners, row by row; cells with none shown are left out. */
export function drawChecker(
  ctx: Ctx,
  v: Viewport,
  corners: readonly FramePt[],
  columns: number,
  shown: readonly boolean[],
): void {
  const across = columns + 1;
  const rows = corners.length / across - 1;
  ctx.globalAlpha = 0.42;
  for (const [parity, colour] of [
    [0, "#101010"],
    [1, "#f2f2f2"],
  ] as const) {
    ctx.beginPath();
    for (let r = 0; r < rows; r++)
      for (let c = 0; c < columns; c++) {
        if ((r + c) % 2 !== parity) continue;
        const i = r * across + c;
        if (![i, i + 1, i + across, i + across + 1].some((k) => shown[k])) continue;
        [i, i + 1, i + across + 1, i + across].forEach((k, n) => {
          const s = toScreen(v, corners[k]!);
          if (n === 0) ctx.moveTo(s.x, s.y);
          else ctx.lineTo(s.x, s.y);
        });
        ctx.closePath();
      }
    ctx.fillStyle = colour;
    ctx.fill();
  }
  ctx.globalAlpha = 1;
}

/** Small dots stuck to the surface. */
export function drawDots(ctx: Ctx, v: Viewport, points: readonly FramePt[], colour: string): void {
  ctx.beginPath();
  for (const p of points) {
    const s = toScreen(v, p);
    ctx.moveTo(s.x + 1.6, s.y);
    ctx.arc(s.x, s.y, 1.6, 0, 2 * Math.PI);
  }
  ctx.fillStyle = colour;
  ctx.strokeStyle = COLOURS.shade;
  ctx.lineWidth = 2;
  ctx.stroke();
  ctx.fill();
}

/** Where points went: one line each, fading towards the past and the future. */
export function drawTrails(
  ctx: Ctx,
  v: Viewport,
  trails: readonly (readonly FramePt[])[],
  colour: string,
): void {
  for (const trail of trails) {
    ctx.strokeStyle = colour;
    ctx.lineWidth = 1.1;
    for (let i = 1; i < trail.length; i++) {
      const a = toScreen(v, trail[i - 1]!);
      const b = toScreen(v, trail[i]!);
      ctx.globalAlpha = 0.15 + 0.75 * (1 - Math.abs((2 * i) / trail.length - 1));
      ctx.beginPath();
      ctx.moveTo(a.x, a.y);
      ctx.lineTo(b.x, b.y);
      ctx.stroke();
    }
  }
  ctx.globalAlpha = 1;
}

/** The brush's rim, and where it samples. */
export function drawBrush(ctx: Ctx, v: Viewport, at: FramePt, radius: number, sample: FramePt | null): void {
  const s = toScreen(v, at);
  ctx.beginPath();
  ctx.arc(s.x, s.y, Math.max(radius * v.scale, 1.5), 0, 2 * Math.PI);
  stroke(ctx, COLOURS.ink, 1);
  if (!sample) return;
  const f = toScreen(v, sample);
  ctx.beginPath();
  ctx.arc(f.x, f.y, Math.max(radius * v.scale, 1.5), 0, 2 * Math.PI);
  ctx.moveTo(f.x - 5, f.y);
  ctx.lineTo(f.x + 5, f.y);
  ctx.moveTo(f.x, f.y - 5);
  ctx.lineTo(f.x, f.y + 5);
  stroke(ctx, COLOURS.verdigris, 1, [3, 3]);
}

/** A round lens: what lies below the pointer, enlarged. */
export function drawLens(
  ctx: Ctx,
  v: Viewport,
  picture: CanvasImageSource,
  size: { width: number; height: number },
  at: FramePt,
): void {
  const s = toScreen(v, at);
  const scale = LENS_TIMES * Math.max(v.scale, 1);
  ctx.save();
  ctx.beginPath();
  ctx.arc(s.x, s.y, LENS_PX, 0, 2 * Math.PI);
  ctx.clip();
  ctx.fillStyle = "#161616";
  ctx.fill();
  ctx.imageSmoothingEnabled = false;
  const left = s.x - (at.x + 0.5) * scale;
  const top = s.y - (at.y + 0.5) * scale;
  ctx.drawImage(picture, left, top, size.width * scale, size.height * scale);
  ctx.restore();
  ctx.beginPath();
  ctx.arc(s.x, s.y, LENS_PX, 0, 2 * Math.PI);
  stroke(ctx, COLOURS.ink, 1);
}

/** Where a veil takes its skin: a ring at the donor, tied to the mark. */
export function drawDonor(
  ctx: Ctx,
  v: Viewport,
  mark: FramePt,
  donor: FramePt,
  radius: number,
  colour: string,
): void {
  const a = toScreen(v, mark);
  const b = toScreen(v, donor);
  ctx.beginPath();
  ctx.moveTo(a.x, a.y);
  ctx.lineTo(b.x, b.y);
  stroke(ctx, colour, 1, [2, 3]);
  ctx.beginPath();
  ctx.arc(b.x, b.y, Math.max(radius * v.scale, 4), 0, 2 * Math.PI);
  stroke(ctx, colour, 1.5, [4, 3]);
  ctx.beginPath();
  ctx.moveTo(b.x - 4, b.y);
  ctx.lineTo(b.x + 4, b.y);
  ctx.moveTo(b.x, b.y - 4);
  ctx.lineTo(b.x, b.y + 4);
  stroke(ctx, colour, 1.2);
}

/** Where the surface is pinned by hand: a pin's head, and how far its correction reaches. */
export function drawTack(ctx: Ctx, v: Viewport, to: FramePt, reach: number): void {
  const s = toScreen(v, to);
  ctx.beginPath();
  ctx.arc(s.x, s.y, reach * v.scale, 0, 2 * Math.PI);
  stroke(ctx, COLOURS.saffron, 1, [2, 5]);
  ctx.beginPath();
  ctx.moveTo(s.x, s.y - 7);
  ctx.lineTo(s.x, s.y + 7);
  ctx.moveTo(s.x - 7, s.y);
  ctx.lineTo(s.x + 7, s.y);
  stroke(ctx, COLOURS.saffron, 1.5);
}

/** A stroke's path: a point for every dab that it was laid with. */
export function drawStroke(ctx: Ctx, v: Viewport, points: FramePt[], colour: string): void {
  trace(ctx, v, points, false);
  stroke(ctx, colour, 1.5);
  drawDots(ctx, v, points.length > 1 ? [points[0]!, points[points.length - 1]!] : points, colour);
}

/** A tack that is being set: from where the surface was taken to lie, to where it is. */
export function drawPull(ctx: Ctx, v: Viewport, from: FramePt, to: FramePt): void {
  trace(ctx, v, [from, to], false);
  stroke(ctx, COLOURS.saffron, 1.5);
  drawTack(ctx, v, to, 0);
}

export function drawNote(ctx: Ctx, x: number, y: number, text: string, colour: string): void {
  ctx.font = '12px "JetBrains Mono Variable", monospace';
  const width = ctx.measureText(text).width;
  ctx.fillStyle = "rgba(22,22,22,0.8)";
  ctx.fillRect(x - 4, y - 12, width + 8, 17);
  ctx.fillStyle = colour;
  ctx.fillText(text, x, y);
}
