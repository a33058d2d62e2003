/** What is put on a surface by hand: tacks, points to follow, vertices of its mesh. */
import { useUi } from "../app/store";
import { denserWithin, withDenser, withoutPoint, withPlacing, withPoint } from "../features/drape/points";
import { vertexAdded, vertexRemoved, verticesOf } from "../features/drape/vertices";
import type { Schema } from "../api/client";
import { useEdit, useStartJob } from "../features/queries";
import { referenceOf, TACK_REACH, withDrape, type Drape, type Recipe } from "../features/recipe";
import { distance, pair, type FramePt } from "../geometry/points";
import type { SurfaceMap } from "../geometry/surfaceMap";
import { ownPoints } from "./stuck";
import type { Surface } from "./surface";

/** Reference px within which a click takes back the vertex that was put there. */
const NEAR_VERTEX_PX = 6;
/** Frame px within which a point is taken hold of. */
const HOLD_PX = 14;

export function useByHand(
  given: Schema["Shot"],
  recipe: Recipe | undefined,
  drape: Drape | null,
  surface: Surface,
  frameMap: SurfaceMap | null,
) {
  const ui = useUi();
  const edit = useEdit(given.id);
  const start = useStartJob(given.id);
  const { track } = surface;
  const { frame } = ui;

  /** The point of the surface that lies at `from` belongs at `to`. */
  const setTack = (from: FramePt, to: FramePt) => {
    ui.set({ tool: "none" });
    if (!recipe || !drape || !frameMap || !track) return;
    if (drape.reference_frames.includes(frame))
      return ui.set({
        fault: "The reference frame is exact; go to a frame where the surface slips, and tack there.",
      });
    const at = frameMap.back(from);
    const tack = { frame, at: pair(at), to: pair(to) };
    void edit(
      withDrape(recipe, drape.name, (d) => ({ ...d, tacks: [...(d.tacks ?? []), tack] })),
      `Tack ${drape.name} on ${frame}`,
    ).then((ok) => ok && recipe.veils.some((v) => v.drape === drape.name) && void start({ kind: "ready" }));
  };
  const options = drape?.follower?.options ?? {};
  const dotsOf = (name: "placed" | "off" | "denser") =>
    ((options[name] as [number, number][] | undefined) ?? []).map(([x, y]) => ({ x, y }) as FramePt);
  const byPoints = drape?.follower?.kind === "points";
  const onReference = byPoints && frame === referenceOf(drape);
  const setOptions = (next: Record<string, unknown>, label: string) =>
    edit(
      withDrape(recipe!, drape!.name, (d) => ({ ...d, follower: { kind: "points", options: next } })),
      label,
    );
  const placePoint = (p: FramePt, away: boolean) => {
    if (!recipe || !onReference)
      return ui.set({
        fault: "Points are placed on the reference frame of a drape that is followed by points.",
      });
    if (ui.pointClick === "denser")
      return void setOptions(withDenser(options, p, away), away ? "As dense as elsewhere" : "Denser points");
    if (away) return void setOptions(withoutPoint(options, p), "Point out");
    void setOptions(withPoint(options, p), "Point placed");
  };
  /** The followed point that lies at `from` belongs at `to`, and goes on from there. */
  const placeAgain = (from: FramePt, to: FramePt) => {
    if (!recipe || !drape || !track || !byPoints) return;
    const here = ownPoints(surface, track.rowOf.get(frame));
    const homes = ownPoints(surface, track.rowOf.get(referenceOf(drape)));
    const nearest = here.reduce(
      (best, p, i) => (best < 0 || distance(p, from) < distance(here[best]!, from) ? i : best),
      -1,
    );
    if (nearest < 0 || distance(here[nearest]!, from) > HOLD_PX)
      return ui.set({ fault: "There is no point there; take hold of one of the dots." });
    const moved = {
      x: here[nearest]!.x + to.x - from.x,
      y: here[nearest]!.y + to.y - from.y,
    } as FramePt;
    void setOptions(
      withPlacing(options, frame, homes[nearest]!, moved),
      `Point placed again on ${frame}`,
    ).then(
      (ok) =>
        ok && void start({ kind: "follow", drape: drape.name, first: given.in_frame, last: given.out_frame }),
    );
  };
  const setVertex = (p: FramePt, away: boolean) => {
    if (!recipe || !drape || !frameMap || !track) return;
    const at = pair(frameMap.back(p));
    const next = (away ? vertexRemoved : vertexAdded)(verticesOf(drape), at, NEAR_VERTEX_PX);
    void edit(
      withDrape(recipe, drape.name, (d) => ({ ...d, vertices: next })),
      away ? "Vertex taken away" : "Vertex added",
    );
  };
  const byHand = drape && ui.tool === "vertex" && frameMap ? verticesOf(drape) : null;
  const dotsHere = (places: [number, number][]) =>
    places.map(([x, y]) => frameMap!.there({ x, y } as FramePt));
  const tacks = (drape?.tacks ?? [])
    .filter((t) => t.frame === frame)
    .map((t) => ({ to: { x: t.to[0], y: t.to[1] }, reach: t.reach ?? TACK_REACH }));
  const dots = byHand
    ? { placed: dotsHere(byHand.added), off: dotsHere(byHand.removed) }
    : onReference
      ? {
          placed: dotsOf("placed"),
          off: dotsOf("off"),
          around:
            ui.tool === "point" ? dotsOf("denser").map((at) => ({ at, radius: denserWithin(options) })) : [],
        }
      : undefined;
  const onPoint = ui.tool === "vertex" ? setVertex : onReference || !byPoints ? placePoint : undefined;

  return { onTack: ui.tool === "point" ? placeAgain : setTack, onPoint, dots, tacks };
}
