/** What dragging a point of a shape means for its drape, its veil or its holdout, on this frame or on all. */
import type { Schema } from "../api/client";
import { useUi } from "../app/store";
import { followedSpan } from "../features/drape/model";
import { withOutline } from "../features/drape/outlines";
import { useEdit, useStartJob } from "../features/queries";
import {
  readOutline,
  referenceOf,
  withDrape,
  withHoldout,
  withVeil,
  writeOutline,
  type Drape,
  type Holdout,
  type Outline,
  type Recipe,
  type Veil,
} from "../features/recipe";
import { alike } from "../geometry/keyedShape";
import { pair } from "../geometry/points";
import { chained, reversed, type SurfaceMap } from "../geometry/surfaceMap";
import { carried, frameFromDesign, veilOutline, type Surface } from "./surface";

export function useShapeEdits(
  shot: Schema["Shot"],
  recipe: Recipe | undefined,
  drape: Drape | null,
  surface: Surface,
) {
  const ui = useUi();
  const edit = useEdit(shot.id);
  const start = useStartJob(shot.id);
  const { frame } = ui;

  /** On another reference than the main one the drape is followed again at once: a hand has said where it is. */
  const commitDrape = (d: Drape, before: Outline, after: Outline, on: number) => {
    if (!recipe) return;
    const changed = withDrape(recipe, d.name, (o) => withOutline(o, on, before, after));
    void edit(changed, `Outline of ${d.name}`).then(
      (ok) =>
        ok &&
        on !== referenceOf(d) &&
        void start({ kind: "follow", drape: d.name, ...followedSpan(surface.track, shot) }),
    );
  };
  /** An outline that was dragged: `before` and `after` in the view, `frameFromView` null for the frame itself. */
  const commitVeil = (v: Veil, before: Outline, after: Outline, frameFromView: SurfaceMap) => {
    if (!recipe) return;
    const here = { ...after, points: carried(after, frameFromView).map(pair) };
    const was = { ...before, points: carried(before, frameFromView).map(pair) };
    const everywhere = ui.shapeScope === "all";
    const moved = (f: number, o: Outline): Outline => {
      if (f === frame) return here;
      const map = drape && frameFromDesign(surface, drape, v, f);
      const now = drape && frameFromDesign(surface, drape, v, frame);
      if (!map || !now || !everywhere) return alike(was, here, o, everywhere && !drape);
      // The same change of the surface, seen from the other key's frame.
      const there = chained(reversed(now), map);
      const a = { ...was, points: carried(was, there).map(pair) };
      const b = { ...here, points: carried(here, there).map(pair) };
      return alike(a, b, o, true);
    };
    const keyed =
      frame === v.frame || (everywhere && !v.shapes?.[frame]) ? {} : { [frame]: writeOutline(here) };
    const shapes = Object.fromEntries(
      Object.entries(v.shapes ?? {}).map(([f, o]) => [f, writeOutline(moved(Number(f), readOutline(o)))]),
    );
    const outline = writeOutline(moved(v.frame, veilOutline(v)));
    void edit(
      withVeil(recipe, v.name, (o) => ({ ...o, outline, shapes: { ...shapes, ...keyed } })),
      `Outline of ${v.name}`,
    ).then((ok) => ok && void start({ kind: "ready" }));
  };

  const commitHoldout = (h: Holdout, before: Outline, after: Outline) => {
    if (!recipe) return;
    const everywhere = ui.shapeScope === "all";
    const shapes = Object.fromEntries(
      Object.entries(h.shapes).map(([f, o]) => [
        f,
        writeOutline(Number(f) === frame ? after : alike(before, after, readOutline(o), everywhere)),
      ]),
    );
    const keyed = everywhere ? {} : { [frame]: writeOutline(after) };
    const changed = withHoldout(recipe, h.name, (o) => ({ ...o, shapes: { ...shapes, ...keyed } }));
    void edit(changed, `Shape of ${h.name}`).then(
      (ok) => ok && recipe.veils.length > 0 && void start({ kind: "ready" }),
    );
  };

  return { commitDrape, commitVeil, commitHoldout };
}
