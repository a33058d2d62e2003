import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef } from "react";
import { Panel, type GroupImperativeHandle } from "react-resizable-panels";
import type { Schema } from "../api/client";
import { Divider, Panes } from "../app/Panes";
import { useUi, type ToolName } from "../app/store";
import {
  draftQuery,
  errorsQuery,
  facesQuery,
  positionsQuery,
  shelfQuery,
  stateQuery,
  trackQuery,
  useRecipe,
  useStartJob,
} from "../features/queries";
import { drapeOutline, referenceOf } from "../features/recipe";
import { strokeParam } from "../features/veil/brush";
import { useSelected } from "../features/useSelected";
import { rateValue } from "../app/timecode";
import { matrixMap, reversed, still, chained } from "../geometry/surfaceMap";
import { Button } from "../ui/controls";
import { rateAt } from "./clock";
import { flatAddress, frameAddress, layersOf, matteLook, type Scene } from "./addresses";
import { faceEllipses } from "./faceShapes";
import type { MeshItem, OutlineItem } from "./items";
import { LookButtons } from "./LookButtons";
import { COLOURS, STATUS_COLOUR } from "./overlay/draw";
import { PictureView } from "./PictureView";
import { frameFromRef, statusAt } from "./surface";
import { stuckItem } from "./stuck";
import { useAdding } from "./useAdding";
import { useByHand } from "./useByHand";
import { usePainting } from "./usePainting";
import { usePreview } from "./usePreview";
import { usePlayback, usePrefetch } from "./usePlayback";
import { useShapes } from "./useShapes";

/** Percent of both views that are the flat one: usual, and while it is the larger one. */
const FLAT_SHARE = 33;
const FLAT_SHARE_LARGE = 67;
const FLAT_TOOLS: ToolName[] = ["mark", "brush", "source", "stroke"];

export function Views({ shot }: { shot: Schema["Shot"] }) {
  const { data: revision } = useRecipe(shot.id);
  const { data: state } = useQuery(stateQuery(shot.id));
  const recipe = revision?.recipe;
  const { drape, veil } = useSelected(recipe);
  const { data: track } = useQuery({ ...trackQuery(shot.id, drape?.name ?? ""), enabled: drape !== null });
  const { data: positions } = useQuery(positionsQuery(shot.id, drape?.name ?? "", track?.token));
  const { data: errors } = useQuery({
    ...errorsQuery(shot.id, drape?.name ?? "", track?.token),
    enabled: track?.token !== undefined && !veil, // over a veil no grid is drawn
  });
  const { data: shelf } = useQuery(shelfQuery);
  const { data: faces } = useQuery(facesQuery(shot.id));
  const ui = useUi();
  const preview = usePreview(shot.id, { look: matteLook(ui.look) ?? "result", veil: veil?.name });
  const flatPreview = usePreview(shot.id, {
    flat: drape?.name,
    wanted: !!veil && strokeParam(veil) !== null,
  });
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
  const pair = useRef<GroupImperativeHandle | null>(null);
  useEffect(() => {
    if (ui.flatLarge === null || !flatOpen) return;
    const flat = ui.flatLarge ? FLAT_SHARE_LARGE : FLAT_SHARE;
    pair.current?.setLayout({ shot: 100 - flat, flat });
  }, [ui.flatLarge, flatOpen]);

  const addresses = useCallback(
    (f: number): string[] => {
      const main = layersOf(look).map((l) => frameAddress(scene, f, l, "jpg", matteOf, gain));
      const flat =
        flatOpen && drape && track?.rowOf.has(f)
          ? [flatAddress(scene, drape.name, track.token, f, flatLook, "jpg", gain, ui.compared)]
          : [];
      return [...main, ...flat].filter((u): u is string => u !== null);
    },
    [scene, look, matteOf, flatOpen, drape, track, flatLook, gain, ui.compared],
  );
  const [first, last] = ui.span ?? [shot.in_frame, shot.out_frame];
  const range = { first, last };
  const rate = useCallback(
    (f: number) => rateAt(f, shot.facts.first_frame, rateValue(shot.facts.rate), shot.frame_seconds),
    [shot],
  );
  usePlayback(rate, range, addresses);
  usePrefetch({ first: shot.facts.first_frame, last: shot.facts.last_frame }, addresses);

  const surface = { track, positions, errors };
  const frameMap = drape ? frameFromRef(surface, drape, frame) : null;
  const status = statusAt(track, frame);

  const { holdoutItems, itemsFor } = useShapes(shot, recipe, { drape, veil }, surface, frameMap, {
    shelf,
    state,
  });
  const { takeSpotOff, addMark, addDrape, addHoldout } = useAdding(shot, recipe, drape, track);
  const { brushFor } = usePainting(shot.id, recipe, veil, frameMap, scene);
  const { onTack, onPoint, dots, tacks } = useByHand(shot, recipe, drape, surface, frameMap);

  const ellipses = faceEllipses(veil, faces, frame - shot.facts.first_frame);
  const row = track?.rowOf.get(frame);
  // What is stuck to the surface judges its drape; over a veil it would hide what is to be seen.
  const mesh =
    drape && !veil && row !== undefined
      ? stuckItem(ui.stuck, surface, drape, frame, STATUS_COLOUR[status.status])
      : null;
  const drafting = ui.drafting && drape !== null && row === undefined;
  const { data: drafted } = useQuery({
    ...draftQuery(shot.id, drape?.name ?? "", frame, revision?.revision ?? 0),
    enabled: drafting,
  });
  const draft: MeshItem | null =
    drafting && drafted
      ? {
          kind: "grid",
          positions: drafted.positions,
          offset: 0,
          edges: drafted.edges as [number, number][],
          colour: COLOURS.ink,
        }
      : null;
  const draftOutline: OutlineItem[] =
    draft && drape && drafted
      ? [
          {
            id: "try",
            label: drape.name,
            outline: { ...drapeOutline(drape), points: drafted.outline as [number, number][] },
            colour: COLOURS.ink,
            active: false,
            dash: [6, 4],
          },
        ]
      : [];
  const note = drape
    ? {
        text:
          status.status === "unfollowed"
            ? `${drape.name}: ${drafting ? "a try by vectors alone, not kept" : "not followed here"}`
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

  const flatOn = (form: "jpg" | "png") =>
    drape && track
      ? flatAddress(scene, drape.name, track.token, frame, flatLook, form, gain, ui.compared)
      : null;
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
    <Panes id="pair" panes={flatOpen ? ["shot", "flat"] : ["shot"]} groupRef={pair}>
      <Panel id="shot" minSize={160} className="flex">
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
          outlines={[...shotItems.outlines, ...draftOutline, ...holdoutItems()]}
          donors={shotItems.donors}
          grips={shotItems.grips}
          ellipses={ellipses}
          preview={preview}
          brush={brushFor(frameMap ? reversed(frameMap) : null)}
          mesh={mesh ?? draft}
          note={
            preparing ? { text: "preparing the veil; the original is shown", colour: COLOURS.saffron } : note
          }
          tool={ui.tool}
          onCircle={(c, r) => void (ui.tool === "spot" ? takeSpotOff(c, r) : addMark(c, r, still))}
          onDrawn={(p) => void (ui.tool === "holdout" ? addHoldout(p) : addDrape(p))}
          tacks={tacks}
          onTack={onTack}
          onPoint={onPoint}
          dots={dots}
          head={<LookButtons gainButton={gainButton} />}
        />
      </Panel>
      {flatOpen && (
        <>
          <Divider label="Width of the flat view" />
          <Panel id="flat" defaultSize={`${FLAT_SHARE}%`} minSize={160} className="flex">
            <PictureView
              name="Flat view"
              width={flatBox ? flatBox[2]! - flatBox[0]! : 100}
              height={flatBox ? flatBox[3]! - flatBox[1]! : 100}
              shown={
                track && row !== undefined
                  ? {
                      moving: [flatOn("jpg")],
                      still: [flatOn("png")],
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
                  <Button
                    kind="quiet"
                    label={`Flat view ${ui.flatLarge ? "smaller" : "larger"}`}
                    title={`Make the flat view ${ui.flatLarge ? "smaller" : "larger"} (Shift+V)`}
                    onClick={() => ui.set({ flatLarge: !ui.flatLarge })}
                  >
                    <span aria-hidden>↔</span>
                  </Button>
                </>
              }
            />
          </Panel>
        </>
      )}
    </Panes>
  );
}
