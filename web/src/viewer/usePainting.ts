/** Strokes of the brush in either view: kept on the reference, drawn by the core, on every frame at once. */
import { useUi } from "../app/store";
import { useEdit, useStartJob } from "../features/queries";
import { withVeil, type Recipe, type Veil } from "../features/recipe";
import {
  offsetFor,
  samples,
  selectionStroke,
  strokeParam,
  strokesOf,
  strokeWith,
  withMoved,
  type Stroke,
} from "../features/veil/brush";
import { pair, type FramePt } from "../geometry/points";
import type { SurfaceMap } from "../geometry/surfaceMap";
import { frameAddress, type Scene } from "./addresses";
import type { BrushItem } from "./items";
import { pictures } from "./pictures";

export function usePainting(
  shot: number,
  recipe: Recipe | undefined,
  veil: Veil | null,
  frameMap: SurfaceMap | null,
  scene: Scene,
) {
  const ui = useUi();
  const edit = useEdit(shot);
  const start = useStartJob(shot);

  /** The mean colour of a few px of the picture that is shown. */
  const sampleColour = (p: FramePt) => {
    const url = frameAddress(scene, ui.frame, "original", "jpg");
    const bitmap = url ? pictures.peek(url) : undefined;
    if (!bitmap) return;
    const canvas = new OffscreenCanvas(5, 5);
    const ctx = canvas.getContext("2d")!;
    ctx.drawImage(bitmap, Math.round(p.x) - 2, Math.round(p.y) - 2, 5, 5, 0, 0, 5, 5);
    const { data } = ctx.getImageData(0, 0, 5, 5);
    const mean = [0, 1, 2].map((c) => {
      let sum = 0;
      for (let i = c; i < data.length; i += 4) sum += data[i]!;
      return Math.round(sum / 25);
    });
    const colour = `#${mean.map((v) => v.toString(16).padStart(2, "0")).join("")}`;
    ui.set({ brush: { ...ui.brush, colour }, tool: "brush" });
  };

  /** Painting in a view: `refFromView` leads to the reference, on which strokes are kept. */
  const brushFor = (refFromView: SurfaceMap | null): BrushItem | null => {
    const param = veil && strokeParam(veil);
    if (!recipe || !veil || !param || !refFromView) return null;
    const { brush } = ui;
    const selecting = param === "selection";
    const laid = (next: Recipe, done: boolean, label: string) => {
      ui.set({ draft: next });
      if (!done) return;
      void edit(next, label).then(async (ok) => {
        if (ok) await start({ kind: "ready" });
        ui.set({ draft: null });
      });
    };
    const strokes = strokesOf(veil);
    const withStrokes = (next: Stroke[]): Recipe =>
      withVeil(recipe, veil.name, (v) => ({ ...v, params: { ...v.params, [param]: next } }));
    const chosen = ui.stroke === null ? undefined : strokes[ui.stroke];
    return {
      radius: brush.radius,
      chosen: chosen ? chosen.points.map(([x, y]) => refFromView.back({ x, y } as FramePt)) : null,
      onMove: (from, to, done) => {
        if (ui.stroke === null) return;
        const [a, b] = [refFromView.there(from), refFromView.there(to)];
        const moved = withMoved(strokes, ui.stroke, [b.x - a.x, b.y - a.y]);
        laid(withStrokes(moved), done, "Stroke moved");
      },
      sampleAt: (p, start) => {
        if (selecting || !samples(brush.tool)) return null;
        const from = refFromView.there(start ?? p);
        const offset = offsetFor(brush, [from.x, from.y]);
        if (!offset) return null;
        const here = refFromView.there(p);
        return refFromView.back({ ...here, x: here.x + offset[0], y: here.y + offset[1] });
      },
      onSource: (p) => {
        const at = refFromView.there(p);
        if (brush.tool === "colour") return sampleColour(frameMap ? frameMap.there(at) : at);
        ui.set({ brush: { ...brush, source: pair(at), offset: null }, tool: "brush" });
      },
      onStroke: (points, done) => {
        const onRef = points.map((p): [number, number, number] | [number, number] => {
          const r = refFromView.there(p);
          return p.pressure < 1 ? [r.x, r.y, p.pressure] : [r.x, r.y];
        });
        const made = selecting ? selectionStroke(brush, onRef) : strokeWith(brush, onRef);
        if (!made) {
          if (done) ui.set({ fault: "Set the brush's source first: where clean skin is taken from." });
          return;
        }
        if (done && made.offset && !brush.offset) ui.set({ brush: { ...brush, offset: made.offset } });
        laid(withStrokes([...strokes, made]), done, `Stroke: ${made.tool}`);
      },
    };
  };

  return { brushFor };
}
