/** Where the faces of a shot are, as ellipses on a frame. */
import type { Schema } from "../api/client";
import type { Veil } from "../features/recipe";
import type { FramePt } from "../geometry/points";
import { COLOURS } from "./overlay/draw";

/** An ellipse (centre, half axes, turn) as a few points of a closed curve. */
function ellipsePoints(e: readonly number[]): FramePt[] {
  const [cx, cy, a, b, turn] = e as [number, number, number, number, number];
  return Array.from({ length: 20 }, (_, i) => {
    const u = a * Math.cos((i / 20) * 2 * Math.PI);
    const v = b * Math.sin((i / 20) * 2 * Math.PI);
    return {
      x: cx + u * Math.cos(turn) - v * Math.sin(turn),
      y: cy + u * Math.sin(turn) + v * Math.cos(turn),
    };
  });
}

/** Those that an obscuring veil chooses from; dashed where they are held. ``row`` counts from the first frame. */
export function faceEllipses(
  veil: Veil | null,
  faces: Schema["FaceFound"][] | null | undefined,
  row: number,
) {
  const whom = veil?.kind === "obscure" ? veil.params?.whom : undefined;
  if (whom === undefined || whom === "outline") return [];
  return (faces ?? []).flatMap((f) => {
    const e = f.ellipses[row];
    const dash = f.status[row] === "held" ? [5, 4] : undefined;
    return e ? [{ points: ellipsePoints(e), colour: COLOURS.verdigris, dash }] : [];
  });
}
