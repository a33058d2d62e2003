import { isSeen } from "../features/drape/model";
import type { Stuck } from "../app/store";
import { drapeOutline, type Drape } from "../features/recipe";
import type { FramePt } from "../geometry/points";
import { contains, outlineCurve } from "../geometry/spline";
import { COLOURS } from "./overlay/draw";
import type { MeshItem } from "./items";
import { frameFromRef, type Surface } from "./surface";

const CELLS = 12; // along the longer side
const TRAIL_FRAMES = 12; // before and after
const TRAILS_ACROSS = 6;
const MOST_TRAILS = 120;

/** Points of a regular grid over the drape's outline on its reference, row by row. */
export function latticeOver(drape: Drape, cells: number): { points: FramePt[]; columns: number } {
  const own = drapeOutline(drape);
  const xs = own.points.map((p) => p[0]);
  const ys = own.points.map((p) => p[1]);
  const [x0, x1, y0, y1] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)];
  const side = Math.max(x1 - x0, y1 - y0, 1) / cells;
  const columns = Math.max(1, Math.round((x1 - x0) / side));
  const rows = Math.max(1, Math.round((y1 - y0) / side));
  const points: FramePt[] = [];
  for (let r = 0; r <= rows; r++)
    for (let c = 0; c <= columns; c++)
      points.push({ x: x0 + ((x1 - x0) * c) / columns, y: y0 + ((y1 - y0) * r) / rows } as FramePt);
  return { points, columns };
}

/** Those points of the lattice that lie inside the outline. */
function inside(drape: Drape, cells: number, of = latticeOver(drape, cells).points): FramePt[] {
  const own = drapeOutline(drape);
  const curve = outlineCurve(
    own.points.map(([x, y]) => ({ x, y }) as FramePt),
    own.corners,
  );
  return of.filter((p) => contains(curve, p));
}

/** Points that are followed one by one, where they are on a row of the track; none for other followers. */
export function ownPoints({ track, positions }: Surface, row: number | undefined): FramePt[] {
  if (!track || !positions || row === undefined) return [];
  const first = row * track.vertices * 2;
  return track.points.map(
    (i) => ({ x: positions[first + 2 * i]!, y: positions[first + 2 * i + 1]! }) as FramePt,
  );
}

/** What is stuck to the surface on a frame, to judge by eye how it is followed. */
export function stuckItem(
  kind: Stuck,
  surface: Surface,
  drape: Drape,
  frame: number,
  colour: string = COLOURS.ink,
): MeshItem | null {
  const { track, positions } = surface;
  const row = track?.rowOf.get(frame);
  if (kind === "none" || !track || row === undefined) return null;
  if (kind === "grid") {
    if (!positions) return null;
    const edges = track.edges as [number, number][];
    const told =
      isSeen(track.status[row]) && surface.errors
        ? { errors: surface.errors, errorsOffset: row * track.vertices }
        : {};
    const { points } = track;
    return { kind, positions, offset: row * track.vertices * 2, edges, colour, ...told, points };
  }
  const map = frameFromRef(surface, drape, frame);
  if (!map) return null;
  if (kind === "checker") {
    const { points, columns } = latticeOver(drape, CELLS);
    const held = new Set(inside(drape, CELLS, points));
    return { kind, corners: points.map((p) => map.there(p)), columns, shown: points.map((p) => held.has(p)) };
  }
  const own = ownPoints(surface, track.rowOf.get(drape.reference_frames[0]!));
  if (kind === "dots") {
    const home = own.length > 0 ? own : inside(drape, 2 * CELLS);
    return { kind, points: home.map((p) => map.there(p)), colour };
  }
  const home = own.length > 0 ? own.slice(0, MOST_TRAILS) : inside(drape, TRAILS_ACROSS);
  const trails: FramePt[][] = home.map(() => []);
  for (let f = frame - TRAIL_FRAMES; f <= frame + TRAIL_FRAMES; f++) {
    const at = frameFromRef(surface, drape, f);
    if (at) home.forEach((p, i) => trails[i]!.push(at.there(p)));
  }
  return { kind, trails, colour };
}
