/** The shapes of a recipe as they lie on a view: outlines, donors, the grips of artwork, faces. */
import type { Schema } from "../api/client";
import { useUi } from "../app/store";
import { useEdit, useStartJob } from "../features/queries";
import {
  FEATHER,
  drapeOutline,
  hasOutline,
  referenceOf,
  valueAt,
  withVeil,
  type Drape,
  type Outline,
  type Pair,
  type Recipe,
  type Veil,
} from "../features/recipe";
import { drawnOn } from "../features/drape/outlines";
import { donorsOf, dragged, stepOf, withDonors } from "../features/veil/donors";
import { shapeOn } from "../geometry/keyedShape";
import { grownBy } from "../geometry/outlineEdits";
import { centreOf, distance, pair } from "../geometry/points";
import { outlineCurve, round } from "../geometry/spline";
import { chained, reversed, still, type SurfaceMap } from "../geometry/surfaceMap";
import { artGrips, type GripItem } from "./artGrips";
import { COLOURS } from "./overlay/draw";
import type { DonorItem, OutlineItem } from "./items";
import {
  carried,
  frameFromDesign,
  holdoutOn,
  veilKeys,
  veilOnReference,
  veilOutline,
  type Surface,
} from "./surface";
import { useShapeEdits } from "./useShapeEdits";

/** What a view draws over its picture. */
export interface Shapes {
  outlines: OutlineItem[];
  donors: DonorItem[];
  grips: GripItem | null;
}

export function useShapes(
  shot: Schema["Shot"],
  recipe: Recipe | undefined,
  { drape, veil }: { drape: Drape | null; veil: Veil | null },
  surface: Surface,
  frameMap: SurfaceMap | null,
  given: { shelf: Schema["ArtworkPiece"][] | undefined; state: Schema["State"] | undefined },
) {
  const { shelf, state } = given;
  const ui = useUi();
  const edit = useEdit(shot.id);
  const start = useStartJob(shot.id);
  const { frame } = ui;
  const { commitDrape, commitVeil, commitHoldout } = useShapeEdits(shot, recipe, drape, surface);

  /** What passes in front, as it lies on this frame. */
  const holdoutItems = (): OutlineItem[] =>
    (recipe?.holdouts ?? []).flatMap((h) => {
      const selected = ui.selection.kind === "holdout" && ui.selection.name === h.name;
      const carrier = recipe?.drapes.find((d) => d.name === h.rides) ?? null;
      if (h.enabled === false || (carrier && carrier !== drape)) return [];
      if (!selected && h.range && (frame < h.range[0] || frame > h.range[1])) return [];
      const outline = holdoutOn(surface, carrier, h, frame);
      if (!outline) return [];
      return [
        {
          id: `holdout ${h.name}`,
          label: h.name,
          outline,
          colour: selected ? COLOURS.madder : COLOURS.saffron,
          active: selected,
          dash: selected ? undefined : [2, 3],
          onCommit: selected ? (o: Outline) => commitHoldout(h, outline, o) : undefined,
        },
      ];
    });

  /** A drape's outline: where it was drawn on a reference, else where the surface is. It is dragged on references. */
  const drapeItems = (d: Drape, viewFromRef: SurfaceMap | null, flat: boolean): OutlineItem[] => {
    const own = drapeOutline(d);
    const on = flat ? referenceOf(d) : frame;
    const drawn = !flat && on !== referenceOf(d) ? drawnOn(d, on) : null;
    const outline = viewFromRef ? { ...own, points: carried(own, viewFromRef).map(pair) } : drawn;
    if (!outline) return [];
    const selected = ui.selection.kind === "drape";
    const back = flat && viewFromRef ? reversed(viewFromRef) : still;
    const held = !d.reference_frames.includes(on) || d.locked;
    return [
      {
        id: `drape ${d.name}`,
        label: d.name,
        outline,
        colour: selected ? COLOURS.madder : COLOURS.ink,
        active: selected,
        dash: selected ? undefined : [6, 4],
        onCommit: held
          ? undefined
          : (o) =>
              commitDrape(
                d,
                on === referenceOf(d) ? own : outline,
                { ...o, points: carried(o, back).map(pair) },
                on,
              ),
      },
    ];
  };

  /** The outlines and the donor as seen in a view; `viewFromRef` is null where the surface is not known. */
  const itemsFor = (viewFromRef: SurfaceMap | null, flat: boolean): Shapes => {
    if (recipe && veil && !drape && hasOutline(veil) && !flat) {
      const item = {
        id: `veil ${veil.name}`,
        label: veil.name,
        outline: shapeOn(veilKeys(veil), frame),
        feather: valueAt(veil.feather ?? FEATHER, frame),
        colour: COLOURS.madder,
        active: true,
        onCommit: (o: Outline) => commitVeil(veil, item.outline, o, still),
      };
      return { outlines: [item], donors: [], grips: null };
    }
    if (!recipe || !drape) return { outlines: [], donors: [], grips: null };
    const outlines = drapeItems(drape, viewFromRef, flat);
    if (!viewFromRef) return { outlines, donors: [], grips: null };
    let grips: GripItem | null = null;
    const donors: DonorItem[] = [];
    for (const v of recipe.veils.filter((x) => x.drape === drape.name)) {
      const refFromDesign = frameFromDesign(surface, drape, v, referenceOf(drape));
      if (!refFromDesign) continue;
      const written = veilOutline(v);
      const onRef = veilOnReference(surface, drape, v, frame);
      if (!onRef) continue;
      const points = carried(onRef, viewFromRef);
      const shown = { ...onRef, points: points.map((p): [number, number] => [p.x, p.y]) };
      const frameFromView = frameMap ? chained(reversed(viewFromRef), frameMap) : null;
      const selected = veil?.name === v.name;
      outlines.push({
        id: `veil ${v.name}`,
        label: v.name,
        outline: shown,
        feather: valueAt(v.feather ?? FEATHER, frame) * grownBy(onRef.points, shown.points),
        colour: selected ? COLOURS.madder : COLOURS.verdigris,
        active: selected,
        onCommit: selected && frameFromView ? (o) => commitVeil(v, shown, o, frameFromView) : undefined,
      });
      const piece = shelf?.find((p) => p.name === v.params?.art);
      if (selected && v.kind === "apply" && piece) {
        const curve = outlineCurve(carried(written, refFromDesign), written.corners);
        const size = { width: piece.size[0]!, height: piece.size[1]! };
        grips = artGrips(v, size, curve, viewFromRef, frame, (params, done) => {
          const next = withVeil(recipe, v.name, (o) => ({ ...o, params }));
          if (!done) return ui.set({ draft: next });
          void edit(next, `Place ${v.name}`).then((ok) => {
            if (ok) void start({ kind: "ready" });
            ui.set({ draft: null });
          });
        });
      }
      if (!selected || v.kind !== "conceal") continue;
      const found =
        (v.params?.donor as Pair | undefined) ?? (state?.veils[v.name]?.donor as Pair | undefined);
      const several = donorsOf(v);
      const steps = several.length ? several.map((d) => stepOf(d, frame)) : found ? [found] : [];
      const markRef = centreOf(carried(written, refFromDesign));
      const mark = viewFromRef.there(markRef);
      for (const [i, step] of steps.entries())
        donors.push({
          mark,
          donor: viewFromRef.there({ x: markRef.x + step[0], y: markRef.y + step[1] }),
          radius: Math.max(...points.map((p) => distance(p, mark))),
          onCommit: (p) => {
            const ref = viewFromRef.back(p);
            const placed: Pair = [round(ref.x - markRef.x), round(ref.y - markRef.y)];
            const moved = several.map((d, j) => (j === i ? dragged(d, frame, placed) : d));
            const next = withVeil(recipe, v.name, (o) =>
              moved.length ? withDonors(o, moved) : { ...o, params: { ...o.params, donor: placed } },
            );
            void edit(next, `Donor of ${v.name}`).then((ok) => ok && void start({ kind: "ready" }));
          },
        });
    }
    return { outlines, donors, grips };
  };

  return { holdoutItems, itemsFor };
}
