/** All that lies on a picture, drawn in order: what is stuck, shapes, what is being dragged, the pointer's own. */
import type { Look, ToolName } from "../../app/store";
import type { Outline } from "../../features/recipe";
import { featherCurve } from "../../geometry/outlineEdits";
import type { FramePt } from "../../geometry/points";
import type { Viewport } from "../../geometry/viewport";
import type { GripItem } from "../artGrips";
import type { BrushItem, DonorItem, Drag, EllipseItem, MeshItem, NoteItem, OutlineItem } from "../items";
import {
  COLOURS,
  drawBrush,
  drawChecker,
  drawDonor,
  drawDots,
  drawGrip,
  drawLens,
  drawMesh,
  drawNote,
  drawOutline,
  drawOwnPoints,
  drawPath,
  drawPull,
  drawStroke,
  drawTack,
  drawTrails,
} from "./draw";

export interface Lying {
  /** Of the frame, in px; `viewHeight` of the view, in CSS px. */
  width: number;
  height: number;
  viewHeight: number;
  look: Look;
  tool: ToolName;
  wipe: number;
  outlines: OutlineItem[];
  donors: DonorItem[];
  mesh: MeshItem | null;
  note: NoteItem | null;
  grips?: GripItem | null;
  ellipses?: EllipseItem[];
  brush?: BrushItem | null;
  tacks?: { to: FramePt; reach: number }[];
  dots?: { placed: FramePt[]; off: FramePt[]; around?: { at: FramePt; radius: number }[] };
  drag: Drag | null;
  /** Corners of an outline that is being drawn. */
  drawn: FramePt[];
  pointer: FramePt | null;
  hot: { id: string; index: number } | null;
  /** The picture under the magnifier; null where that is not shown. */
  lens: ImageBitmap | null;
}

type Ctx = CanvasRenderingContext2D;

/** The line between the two pictures of a wipe. */
export function drawWipe(ctx: Ctx, view: Viewport, { width, height, wipe }: Lying) {
  const x = view.left + width * view.scale * wipe;
  ctx.strokeStyle = COLOURS.ink;
  ctx.lineWidth = 1;
  ctx.beginPath();
  ctx.moveTo(x, view.top);
  ctx.lineTo(x, view.top + height * view.scale);
  ctx.stroke();
  ctx.fillStyle = COLOURS.ink;
  ctx.fillRect(x - 3, view.top + (height * view.scale) / 2 - 12, 6, 24);
  drawNote(ctx, x - 70, Math.max(view.top, 0) + 18, "original", COLOURS.ink);
  drawNote(ctx, x + 10, Math.max(view.top, 0) + 18, "result", COLOURS.ink);
}

export function drawLying(ctx: Ctx, view: Viewport, lying: Lying) {
  if (lying.mesh) drawStuck(ctx, view, lying.mesh);
  for (const item of lying.outlines) drawItem(ctx, view, item, lying);
  drawPlaces(ctx, view, lying);
  drawDragged(ctx, view, lying);
  for (const e of lying.ellipses ?? []) drawOutline(ctx, view, e.points, [], e.colour, { dash: e.dash });
  drawPointer(ctx, view, lying);
  if (lying.note) drawNote(ctx, 12, lying.viewHeight - 12, lying.note.text, lying.note.colour);
}

function drawStuck(ctx: Ctx, view: Viewport, mesh: MeshItem) {
  if (mesh.kind === "grid") {
    drawMesh(ctx, view, mesh);
    drawOwnPoints(ctx, view, mesh);
  } else if (mesh.kind === "checker") drawChecker(ctx, view, mesh.corners, mesh.columns, mesh.shown);
  else if (mesh.kind === "dots") drawDots(ctx, view, mesh.points, mesh.colour);
  else drawTrails(ctx, view, mesh.trails, mesh.colour);
}

function drawItem(ctx: Ctx, view: Viewport, item: OutlineItem, { drag, hot }: Lying) {
  const outline: Outline = drag?.kind === "outline" && drag.id === item.id ? drag.now : item.outline;
  const points = outline.points.map(([x, y]) => ({ x, y }));
  drawOutline(ctx, view, points, outline.corners, item.colour, {
    handles: item.active && item.onCommit !== undefined,
    dash: item.dash,
    hot: hot?.id === item.id ? hot.index : null,
    width: item.active ? 1.8 : 1.2,
  });
  if (item.active && item.feather && points.length >= 3)
    drawOutline(ctx, view, featherCurve(outline, item.feather), [], item.colour, { dash: [1, 4], width: 1 });
}

function drawPlaces(ctx: Ctx, view: Viewport, { donors, drag, dots, tacks, grips }: Lying) {
  for (const [i, { mark, donor, radius }] of donors.entries()) {
    const at = drag?.kind === "donor" && drag.index === i ? drag.at : donor;
    drawDonor(ctx, view, mark, at, radius, COLOURS.verdigris);
  }
  if (dots) {
    drawDots(ctx, view, dots.placed, COLOURS.saffron);
    drawDots(ctx, view, dots.off, COLOURS.fail);
    for (const { at, radius } of dots.around ?? [])
      drawOutline(ctx, view, circle(at, radius), [], COLOURS.saffron, { dash: [2, 3] });
  }
  for (const tack of tacks ?? []) drawTack(ctx, view, tack.to, tack.reach);
  for (const line of grips?.lines ?? []) drawPath(ctx, view, line, COLOURS.saffron);
  for (const p of grips?.points ?? [])
    drawGrip(ctx, view, drag?.kind === "grip" && drag.id === p.id ? drag.to : p.at, p.id === "middle");
}

const circle = (centre: FramePt, radius: number): FramePt[] =>
  Array.from({ length: 24 }, (_, i) => {
    const a = (i / 24) * 2 * Math.PI;
    return { x: centre.x + radius * Math.cos(a), y: centre.y + radius * Math.sin(a) } as FramePt;
  });

function drawDragged(ctx: Ctx, view: Viewport, { drag, drawn, pointer }: Lying) {
  if (drag?.kind === "tack") drawPull(ctx, view, drag.from, drag.to);
  if (drag?.kind === "circle") {
    drawOutline(ctx, view, circle(drag.centre, drag.radius), [], COLOURS.madder);
  }
  if (drawn.length > 0)
    drawOutline(ctx, view, pointer ? [...drawn, pointer] : drawn, [], COLOURS.madder, {
      handles: true,
      dash: [4, 3],
    });
}

function drawPointer(ctx: Ctx, view: Viewport, { lens, pointer, width, height, tool, brush, drag }: Lying) {
  if (lens && pointer) drawLens(ctx, view, lens, { width, height }, pointer);
  if (tool === "brush" && brush && pointer) {
    const start = drag?.kind === "stroke" ? (drag.points[0] as FramePt) : null;
    drawBrush(ctx, view, pointer, brush.radius, brush.sampleAt(pointer, start));
  }
  if (tool === "stroke" && brush?.chosen) drawStroke(ctx, view, brush.chosen, COLOURS.saffron);
}
