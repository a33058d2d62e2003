/** What is put on a surface by hand: tacks, points to follow, vertices of its mesh. */
import { useUi } from "../app/store";
import { vertexAdded, vertexRemoved, verticesOf } from "../features/drape/vertices";
import { useEdit, useStartJob, type Track } from "../features/queries";
import { referenceOf, TACK_REACH, withDrape, type Drape, type Recipe } from "../features/recipe";
import { distance, pair, type FramePt } from "../geometry/points";
import type { SurfaceMap } from "../geometry/surfaceMap";

/** Reference px within which a click takes back what was put there. */
const NEAR_PX = { vertex: 6, point: 8 };

export function useByHand(
  shot: number,
  recipe: Recipe | undefined,
  drape: Drape | null,
  track: Track | null | undefined,
  frameMap: SurfaceMap | null,
) {
  const ui = useUi();
  const edit = useEdit(shot);
  const start = useStartJob(shot);
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
  const dotsOf = (name: "placed" | "off") =>
    ((options[name] as [number, number][] | undefined) ?? []).map(([x, y]) => ({ x, y }) as FramePt);
  const onReference = drape?.follower?.kind === "points" && frame === referenceOf(drape);
  const placePoint = (p: FramePt, off: boolean) => {
    if (!recipe || !drape || !onReference)
      return ui.set({
        fault: "Points are placed on the reference frame of a drape that is followed by points.",
      });
    const near = (q: FramePt) => distance(q, p) < NEAR_PX.point;
    const placed = dotsOf("placed").filter((q) => !off || !near(q));
    const gone = dotsOf("off").filter((q) => off || !near(q));
    if (!off) placed.push(p);
    else if (placed.length === dotsOf("placed").length) gone.push(p);
    const next = { ...options, placed: placed.map(pair), off: gone.map(pair) };
    void edit(
      withDrape(recipe, drape.name, (d) => ({ ...d, follower: { kind: "points", options: next } })),
      off ? "Point off" : "Point placed",
    );
  };
  const setVertex = (p: FramePt, away: boolean) => {
    if (!recipe || !drape || !frameMap || !track) return;
    const at = pair(frameMap.back(p));
    const next = (away ? vertexRemoved : vertexAdded)(verticesOf(drape), at, NEAR_PX.vertex);
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
      ? { placed: dotsOf("placed"), off: dotsOf("off") }
      : undefined;

  return { setTack, placePoint, setVertex, dots, tacks };
}
