import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo } from "react";
import type { Schema } from "../api/client";
import { useUi, type Look, type ToolName } from "../app/store";
import {
  facesQuery,
  positionsQuery,
  shelfQuery,
  stateQuery,
  trackQuery,
  useEdit,
  useRecipe,
  useStartJob,
} from "../features/queries";
import {
  FEATHER,
  valueAt,
  drapeOutline,
  hasOutline,
  freeName,
  referenceOf,
  spotRecipe,
  withDrape,
  withVeil,
  readOutline,
  withHoldout,
  writeOutline,
  type Drape,
  type Holdout,
  type Outline,
  type Pair,
  type Recipe,
  type Veil,
} from "../features/recipe";
import { donorsOf, dragged, stepOf, withDonors } from "../features/veil/donors";
import { strokeParam } from "../features/veil/brush";
import { rateValue } from "../app/timecode";
import { centreOf, distance, type FramePt, pair } from "../geometry/points";
import { circleOutline, outlineCurve, round } from "../geometry/spline";
import { alike, shapeOn } from "../geometry/keyedShape";
import { matrixMap, reversed, still, chained, type SurfaceMap } from "../geometry/surfaceMap";
import { Button, Choice } from "../ui/controls";
import { grownBy } from "../geometry/outlineEdits";
import { artGrips, type GripItem } from "./artGrips";
import { rateAt } from "./clock";
import { MATTE_LOOKS, flatAddress, frameAddress, layersOf, matteLook, type Scene } from "./addresses";
import { COLOURS, STATUS_COLOUR } from "./overlay/draw";
import { PictureView, type DonorItem, type OutlineItem } from "./PictureView";
import {
  carried,
  frameFromDesign,
  frameFromRef,
  holdoutOn,
  statusAt,
  veilKeys,
  veilOnReference,
  veilOutline,
} from "./surface";
import { stuckItem } from "./stuck";
import { useByHand } from "./useByHand";
import { usePainting } from "./usePainting";
import { usePreview } from "./usePreview";
import { usePlayback, usePrefetch } from "./usePlayback";

const FLAT_TOOLS: ToolName[] = ["mark", "brush", "source", "stroke"];

const LOOSE = 2.4; // times the mark's radius: room around the thing, for following
const LOOSE_LEAST = 26; // px

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

const LOOKS: { value: Look; text: string; title: string }[] = [
  { value: "original", text: "Original", title: "The clip as it was brought in" },
  { value: "result", text: "Result", title: "With all veils laid" },
  { value: "wipe", text: "Wipe", title: "Original left, result right; drag the line" },
  { value: "difference", text: "Difference", title: "What the veils changed, made brighter" },
  { value: "matte", text: "Matte", title: "How much of each pixel is changed" },
  { value: "tracked", text: "Tracked", title: "What followers see: local contrast, raised" },
];

/** The drape that is selected, or the one under the selected veil. */
export function useSelected(recipe: Recipe | undefined): { drape: Drape | null; veil: Veil | null } {
  const selection = useUi((s) => s.selection);
  const veil =
    selection.kind === "veil" ? (recipe?.veils.find((v) => v.name === selection.name) ?? null) : null;
  const holdout = recipe?.holdouts.find((h) => selection.kind === "holdout" && h.name === selection.name);
  const name = selection.kind === "drape" ? selection.name : (veil?.drape ?? holdout?.rides);
  const drape =
    recipe?.drapes.find((d) => d.name === name) ??
    (selection.kind === "shot" ? (recipe?.drapes[0] ?? null) : null);
  return { drape, veil };
}

export function Views({ shot }: { shot: Schema["Shot"] }) {
  const { data: revision } = useRecipe(shot.id);
  const { data: state } = useQuery(stateQuery(shot.id));
  const recipe = revision?.recipe;
  const { drape, veil } = useSelected(recipe);
  const { data: track } = useQuery({ ...trackQuery(shot.id, drape?.name ?? ""), enabled: drape !== null });
  const { data: positions } = useQuery(positionsQuery(shot.id, drape?.name ?? "", track?.token));
  const { data: shelf } = useQuery(shelfQuery);
  const { data: faces } = useQuery(facesQuery(shot.id));
  const ui = useUi();
  const preview = usePreview(shot.id, { look: matteLook(ui.look) ?? "result", veil: veil?.name });
  const flatPreview = usePreview(shot.id, {
    flat: drape?.name,
    wanted: !!veil && strokeParam(veil) !== null,
  });
  const edit = useEdit(shot.id);
  const start = useStartJob(shot.id);
  const { frame, look, playing } = ui;
  const scene: Scene = useMemo(
    () => ({
      shot: shot.id,
      revision: revision?.revision ?? 0,
      token: state?.token ?? null,
      empty: state?.empty ?? true,
      solo: ui.solo,
    }),
    [shot.id, revision?.revision, state?.token, state?.empty, ui.solo],
  );
  const layers = layersOf(look);
  const seenMatte = matteLook(look);
  const matteOf = seenMatte ? veil?.name : undefined;
  const flatLook =
    ui.flatLook !== "same"
      ? ui.flatLook
      : look === "tracked"
        ? "tracked"
        : look === "original" || seenMatte
          ? "original"
          : "result";
  const gain = ui.contrastGain;
  const flatOpen = ui.flatShown && drape !== null;

  const addresses = useCallback(
    (f: number): string[] => {
      const main = layersOf(look).map((l) => frameAddress(scene, f, l, "jpg", matteOf, gain));
      const flat =
        flatOpen && drape && track?.rowOf.has(f)
          ? [flatAddress(scene, drape.name, track.token, f, flatLook, "jpg", gain)]
          : [];
      return [...main, ...flat].filter((u): u is string => u !== null);
    },
    [scene, look, matteOf, flatOpen, drape, track, flatLook, gain],
  );
  const [first, last] = ui.span ?? [shot.in_frame, shot.out_frame];
  const range = { first, last };
  const rate = useCallback(
    (f: number) => rateAt(f, shot.facts.first_frame, rateValue(shot.facts.rate), shot.frame_seconds),
    [shot],
  );
  usePlayback(rate, range, addresses);
  usePrefetch({ first: shot.facts.first_frame, last: shot.facts.last_frame }, addresses);

  const surface = { track, positions };
  const frameMap = drape ? frameFromRef(surface, drape, frame) : null;
  const status = statusAt(track, frame);

  const commitDrape = (d: Drape, outline: Outline) => {
    if (!recipe) return;
    const changed = withDrape(recipe, d.name, (o) => ({
      ...o,
      outline: { ...o.outline, [referenceOf(o)]: writeOutline(outline) },
    }));
    void edit(changed, `Outline of ${d.name}`);
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

  /** The outlines and the donor as seen in a view; `viewFromRef` is null where the surface is not known. */
  const itemsFor = (
    viewFromRef: SurfaceMap | null,
    flat: boolean,
  ): { outlines: OutlineItem[]; donors: DonorItem[]; grips: GripItem | null } => {
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
    if (!recipe || !drape || !viewFromRef) return { outlines: [], donors: [], grips: null };
    let grips: GripItem | null = null;
    const outlines: OutlineItem[] = [];
    const own = drapeOutline(drape);
    const onReference = flat || frame === referenceOf(drape);
    outlines.push({
      id: `drape ${drape.name}`,
      label: drape.name,
      outline: { ...own, points: carried(own, viewFromRef).map((p): [number, number] => [p.x, p.y]) },
      colour: ui.selection.kind === "drape" ? COLOURS.madder : COLOURS.ink,
      active: ui.selection.kind === "drape",
      dash: ui.selection.kind === "drape" ? undefined : [6, 4],
      onCommit: onReference
        ? (o) =>
            commitDrape(drape, {
              ...o,
              points: carried(o, reversed(viewFromRef)).map((p): [number, number] => [p.x, p.y]),
            })
        : undefined,
    });
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

  const { brushFor } = usePainting(shot.id, recipe, veil, frameMap, scene);
  const { setTack, placePoint, setVertex, dots, tacks } = useByHand(shot.id, recipe, drape, track, frameMap);

  const ellipses =
    veil?.kind === "obscure" && veil.params?.whom !== undefined && veil.params.whom !== "outline"
      ? (faces ?? []).flatMap((f) => {
          const e = f.ellipses[frame - shot.facts.first_frame];
          const dash = f.status[frame - shot.facts.first_frame] === "held" ? [5, 4] : undefined;
          return e ? [{ points: ellipsePoints(e), colour: COLOURS.verdigris, dash }] : [];
        })
      : [];
  const row = track?.rowOf.get(frame);
  // What is stuck to the surface judges its drape; over a veil it would hide what is to be seen.
  const mesh =
    drape && !veil && row !== undefined
      ? stuckItem(ui.stuck, surface, drape, frame, STATUS_COLOUR[status.status])
      : null;
  const note = drape
    ? {
        text:
          status.status === "unfollowed"
            ? `${drape.name}: not followed here`
            : `${drape.name}: ${status.status}${status.error === null ? "" : `, within ${status.error.toFixed(2)} px`}`,
        colour: STATUS_COLOUR[status.status] ?? COLOURS.ink,
      }
    : null;

  const flatBox = track?.flat_box;
  const origin = flatBox ? matrixMap([1, 0, -flatBox[0]!, 0, 1, -flatBox[1]!, 0, 0, 1]) : still;
  const shotItems = itemsFor(frameMap, false);
  const flatItems = itemsFor(flatBox ? origin : null, true);
  const frameFromFlat = frameMap ? chained(reversed(origin), frameMap) : still;
  const preparing = layers.some((l) => l !== "original") && !scene.empty && scene.token === null;

  const gainButton = (
    <Button
      kind="quiet"
      title="How much the contrast is raised: 2, 4, 8 or 16 times"
      onClick={() => ui.set({ contrastGain: gain >= 16 ? 2 : gain * 2 })}
    >
      <span className="num">{gain}x</span>
    </Button>
  );

  return (
    <div className="flex min-h-0 min-w-0 flex-1">
      <PictureView
        name="Shot view"
        width={shot.facts.width}
        height={shot.facts.height}
        shown={{
          moving: layers.map((l) => frameAddress(scene, frame, l, "jpg", matteOf, gain)),
          still: layers.map((l) => frameAddress(scene, frame, l, "png", matteOf, gain)),
        }}
        look={look}
        playing={playing !== 0}
        outlines={[...shotItems.outlines, ...holdoutItems()]}
        donors={shotItems.donors}
        grips={shotItems.grips}
        ellipses={ellipses}
        preview={preview}
        brush={brushFor(frameMap ? reversed(frameMap) : null)}
        mesh={mesh}
        note={
          preparing ? { text: "preparing the veil; the original is shown", colour: COLOURS.saffron } : note
        }
        tool={ui.tool}
        onCircle={(c, r) => void (ui.tool === "spot" ? takeSpotOff(c, r) : addMark(c, r, still))}
        onDrawn={(p) => void (ui.tool === "holdout" ? addHoldout(p) : addDrape(p))}
        tacks={tacks}
        onTack={setTack}
        onPoint={ui.tool === "vertex" ? setVertex : placePoint}
        dots={dots}
        head={
          <>
            <Choice
              label="What is seen"
              value={seenMatte ? "matte" : look}
              options={LOOKS}
              onChange={(v) => ui.set({ look: v })}
              compact
            />
            {look === "tracked" && gainButton}
            {seenMatte && (
              <Button
                kind="quiet"
                title="The matte alone, as a tint over the result, or its edge"
                onClick={() => {
                  const next = (MATTE_LOOKS.indexOf(seenMatte) + 1) % MATTE_LOOKS.length;
                  ui.set({ look: MATTE_LOOKS[next]! });
                }}
              >
                {{ matte: "alone", tint: "tint", edge: "edge" }[seenMatte]}
              </Button>
            )}
            {look === "difference" && (
              <Button
                kind="quiet"
                title="How much brighter the difference is shown: 1, 4 or 16 times"
                onClick={() =>
                  ui.set({ differenceGain: ui.differenceGain === 16 ? 1 : ui.differenceGain * 4 })
                }
              >
                <span className="num">{ui.differenceGain}x</span>
              </Button>
            )}
          </>
        }
      />
      {flatOpen && (
        <div className="flex w-[33%] min-w-52 border-l border-line">
          <PictureView
            name="Flat view"
            width={flatBox ? flatBox[2]! - flatBox[0]! : 100}
            height={flatBox ? flatBox[3]! - flatBox[1]! : 100}
            shown={
              track && row !== undefined
                ? {
                    moving: [flatAddress(scene, drape.name, track.token, frame, flatLook, "jpg", gain)],
                    still: [flatAddress(scene, drape.name, track.token, frame, flatLook, "png", gain)],
                  }
                : { moving: [], still: [] }
            }
            look={flatLook === "result" ? "result" : "original"}
            playing={playing !== 0}
            outlines={flatItems.outlines}
            donors={flatItems.donors}
            grips={flatItems.grips}
            mesh={null}
            note={null}
            preview={flatPreview}
            brush={brushFor(flatBox ? reversed(origin) : null)}
            tool={FLAT_TOOLS.includes(ui.tool) ? ui.tool : "none"}
            onCircle={(c, r) => void addMark(c, r * 1, frameFromFlat)}
            onDrawn={() => {}}
            empty={
              row === undefined ? (
                <div className="max-w-56 text-dim">
                  <p className="mb-2">
                    Here <b className="text-ink">{drape.name}</b> stands still once it has been followed to
                    this frame.
                  </p>
                  <Button
                    kind="main"
                    onClick={() =>
                      void start({
                        kind: "follow",
                        drape: drape.name,
                        first: shot.in_frame,
                        last: shot.out_frame,
                      })
                    }
                  >
                    Follow all frames
                  </Button>
                </div>
              ) : undefined
            }
            head={
              <>
                <span className="font-semibold">Flat</span>
                {ui.flatLook !== "same" && <span className="text-saffron">{ui.flatLook}</span>}
                {flatLook !== "original" && flatLook !== "result" && gainButton}
                <span
                  className="truncate text-dim"
                  title={`${drape.name}, as on frame ${referenceOf(drape)}`}
                >
                  {drape.name}
                </span>
              </>
            }
          />
        </div>
      )}
    </div>
  );
}
