/** What a tool that has been drawn with adds to the recipe. */
import type { Schema } from "../api/client";
import { useUi } from "../app/store";
import { useEdit, useStartJob, type Track } from "../features/queries";
import { freeName, spotRecipe, type Drape, type Holdout, type Recipe, type Veil } from "../features/recipe";
import { pair, type FramePt } from "../geometry/points";
import { circleOutline } from "../geometry/spline";
import type { SurfaceMap } from "../geometry/surfaceMap";

const LOOSE = 2.4; // times the mark's radius: room around the thing, for following
const LOOSE_LEAST = 26; // px

export function useAdding(
  shot: Schema["Shot"],
  recipe: Recipe | undefined,
  drape: Drape | null,
  track: Track | null | undefined,
) {
  const ui = useUi();
  const edit = useEdit(shot.id);
  const start = useStartJob(shot.id);
  const { frame } = ui;

  const takeSpotOff = async (centre: FramePt, radius: number) => {
    if (!recipe) return;
    ui.set({ tool: "none" });
    const loose = Math.max(radius * LOOSE, radius + LOOSE_LEAST);
    const made = spotRecipe(recipe, frame, circleOutline(centre, radius), circleOutline(centre, loose));
    if (!(await edit(made.recipe, `Take ${made.veil} off`))) return;
    ui.set({ selection: { kind: "veil", name: made.veil }, stage: "veil", look: "result" });
    await start({ kind: "follow", drape: made.drape, first: shot.in_frame, last: shot.out_frame });
  };

  const addMark = async (centre: FramePt, radius: number, frameFromView: SurfaceMap) => {
    if (!recipe || !drape) return;
    ui.set({ tool: "none" });
    const name = freeName(
      ui.markKind === "conceal" ? "spot" : ui.markKind,
      recipe.veils.map((v) => v.name),
    );
    const points = circleOutline(centre, radius).map(([x, y]) => pair(frameFromView.there({ x, y })));
    const added: Veil = { name, kind: ui.markKind, drape: drape.name, frame, outline: points };
    if (!(await edit({ ...recipe, veils: [...recipe.veils, added] }, `Add ${name}`))) return;
    ui.set({ selection: { kind: "veil", name }, stage: "veil", look: "result" });
    if (track) await start({ kind: "ready" });
  };

  const addDrape = async (points: FramePt[]) => {
    if (!recipe) return;
    const name = freeName(
      "skin",
      recipe.drapes.map((d) => d.name),
    );
    const outline = { [frame]: points.map(pair) };
    const added: Drape = { name, reference_frames: [frame], outline };
    ui.set({ tool: "none" });
    if (await edit({ ...recipe, drapes: [...recipe.drapes, added] }, `Drape ${name}`))
      ui.set({ selection: { kind: "drape", name }, stage: "drape" });
  };

  const addHoldout = async (points: FramePt[]) => {
    if (!recipe) return;
    const name = freeName(
      "passing",
      recipe.holdouts.map((h) => h.name),
    );
    ui.set({ tool: "none" });
    // Others keep what they have been followed to: what passes is in front of the surface that is worked on.
    const before = drape ? [drape.name] : null;
    const added: Holdout = { name, shapes: { [frame]: points.map(pair) }, before };
    if (await edit({ ...recipe, holdouts: [...recipe.holdouts, added] }, `Holdout ${name}`))
      ui.set({ selection: { kind: "holdout", name }, stage: "drape", look: "original" });
  };

  return { takeSpotOff, addMark, addDrape, addHoldout };
}
