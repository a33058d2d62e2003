import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import type { Schema } from "../../api/client";
import { useUi } from "../../app/store";
import { Button, Choice, NumberField, Section, TextField } from "../../ui/controls";
import { statusAt } from "../../viewer/surface";
import {
  addPoint,
  movePoint,
  removePoint,
  scaledOutline,
  setFeather,
  toggleCorner,
} from "../../geometry/outlineEdits";
import { ParamPanel } from "../ParamPanel";
import { paramsQuery, trackQuery, useEdit, useStartJob, type Track } from "../queries";
import {
  drapeOutline,
  referenceOf,
  TACK_REACH,
  TACK_SPAN,
  renameDrape,
  withDrape,
  withoutDrape,
  writeOutline,
  type Drape,
  type Outline,
  type Recipe,
  type Tack,
} from "../recipe";
import { LostAdvice } from "./LostAdvice";
import { HeadSection } from "./HeadSection";
import { PointsSection } from "./PointsSection";
import { Forgotten, PointsIn } from "./TrackEdits";
import { VerticesSection } from "./VerticesSection";
import { VectorsSection } from "./VectorsSection";
import { Checks } from "./Checks";
import { tackSpan, worstFrames } from "./model";

export function DrapeCard({ shot, recipe, drape }: { shot: Schema["Shot"]; recipe: Recipe; drape: Drape }) {
  const { data: params } = useQuery(paramsQuery);
  const { data: track } = useQuery(trackQuery(shot.id, drape.name));
  const edit = useEdit(shot.id);
  const start = useStartJob(shot.id);
  const ui = useUi();
  const reference = referenceOf(drape);
  const outline = drapeOutline(drape);
  const follow = (first: number, last: number, again = false) =>
    void start({ kind: "follow", drape: drape.name, first, last, again });
  const setOutline = (o: Outline, label: string) =>
    void edit(
      withDrape(recipe, drape.name, (d) => ({
        ...d,
        outline: { ...d.outline, [reference]: writeOutline(o) },
      })),
      label,
    );
  const moveReference = () => {
    const moved = withDrape(recipe, drape.name, (d) => ({
      ...d,
      reference_frames: [ui.frame],
      tacks: [],
      outline: { [ui.frame]: writeOutline(outline) },
    }));
    void edit(moved, `Reference of ${drape.name} to ${ui.frame}`);
  };
  const setReferences = (frames: number[]) =>
    void edit(
      withDrape(recipe, drape.name, (d) => ({
        ...d,
        reference_frames: frames,
        tacks: d.tacks?.filter((t) => !frames.includes(t.frame)),
        outline: Object.fromEntries(Object.entries(d.outline).filter(([f]) => frames.includes(Number(f)))),
      })),
      `References of ${drape.name}`,
    );
  const rename = (to: string) => {
    void edit(renameDrape(recipe, drape.name, to), `Rename ${drape.name}`).then(
      (ok) => ok && ui.set({ selection: { kind: "drape", name: to } }),
    );
  };
  const remove = () => {
    void edit(withoutDrape(recipe, drape.name), `Remove ${drape.name}`).then(
      (ok) => ok && ui.set({ selection: { kind: "shot" }, stage: "shot" }),
    );
  };
  const kind = drape.follower?.kind ?? "mesh";
  const here = statusAt(track, ui.frame);
  return (
    <>
      <Section title="Follow">
        <div className="mb-1.5 flex flex-wrap gap-1.5">
          <Button kind="main" onClick={() => follow(shot.in_frame, shot.out_frame)}>
            Follow all frames
          </Button>
          <Button
            onClick={() => follow(shot.in_frame, reference)}
            title="From the reference back to the in frame"
          >
            Backwards
          </Button>
          <Button
            onClick={() => follow(reference, shot.out_frame)}
            title="From the reference on to the out frame"
          >
            Forwards
          </Button>
          <Button
            onClick={() => follow(Math.min(ui.frame, reference), Math.max(ui.frame, reference))}
            title="From what is known up to the frame that is seen"
          >
            To here
          </Button>
          <Button
            onClick={() => follow(shot.in_frame, shot.out_frame, true)}
            title="Forget what has been followed and begin anew"
          >
            Again
          </Button>
        </div>
        <TrackSummary track={track} here={here} />
      </Section>
      {track && <NeedsALook track={track} />}
      {track && <LostAdvice track={track} />}
      {track && <Checks track={track} onMeasure={() => void start({ kind: "check", drape: drape.name })} />}
      <TackList
        drape={drape}
        followed={Boolean(track)}
        onChange={(tacks, label) =>
          void edit(
            withDrape(recipe, drape.name, (d) => ({ ...d, tacks })),
            label,
          ).then(
            (ok) => ok && recipe.veils.some((v) => v.drape === drape.name) && void start({ kind: "ready" }),
          )
        }
      />
      <Forgotten
        shot={shot}
        drape={drape}
        onChange={(forgotten) =>
          void edit(
            withDrape(recipe, drape.name, (d) => ({ ...d, forgotten })),
            "Frames forgotten",
          )
        }
      />
      <PointsIn
        shot={shot.id}
        drape={drape.name}
        onTacks={(tacks) =>
          void edit(
            withDrape(recipe, drape.name, (d) => ({ ...d, tacks: [...(d.tacks ?? []), ...tacks] })),
            "Points brought in",
          )
        }
      />
      <Section title="How the surface moves">
        <Choice
          label="Follower"
          value={kind}
          options={Object.entries(params?.followers ?? { mesh: { label: "Mesh" } }).map(([value, f]) => ({
            value,
            text: f.label,
          }))}
          onChange={(value) =>
            void edit(
              withDrape(recipe, drape.name, (d) => ({ ...d, follower: { kind: value } })),
              "Follower",
            )
          }
        />
        <p className="mt-1 text-[12px] text-dim">{params?.followers[kind]?.help}</p>
      </Section>
      {kind === "face" && track && <HeadSection shot={shot.id} drape={drape.name} />}
      {kind !== "plane" && (
        <VerticesSection
          drape={drape}
          count={track?.vertices}
          onChange={(vertices, label) =>
            void edit(
              withDrape(recipe, drape.name, (d) => ({ ...d, vertices })),
              label,
            )
          }
        />
      )}
      {kind === "points" && (
        <PointsSection
          reference={reference}
          options={drape.follower?.options ?? {}}
          onChange={(options, label) =>
            void edit(
              withDrape(recipe, drape.name, (d) => ({ ...d, follower: { kind, options } })),
              label,
            )
          }
        />
      )}
      {kind === "vectors" && (
        <VectorsSection
          shot={shot}
          drape={drape.name}
          quality={String(drape.follower?.options?.quality ?? "good")}
          followed={Boolean(track)}
        />
      )}
      <ParamPanel
        params={params?.followers[kind]?.params ?? []}
        given={drape.follower?.options ?? {}}
        skip={["placed", "off"]}
        onChange={(options, label) =>
          void edit(
            withDrape(recipe, drape.name, (d) => ({ ...d, follower: { kind, options } })),
            label,
          )
        }
      />
      <Section title="Drape">
        <TextField label="Name" value={drape.name} onCommit={rename} />
        {drape.reference_frames.map((frame, i) => (
          <div key={frame} className="flex items-center justify-between py-0.5">
            <span>
              {i === 0 ? "Reference frame" : "also on"} <b className="num">{frame}</b>
            </span>
            <span className="flex gap-1">
              <Button onClick={() => ui.set({ frame, playing: 0 })}>Go</Button>
              {i > 0 && (
                <Button onClick={() => setReferences(drape.reference_frames.filter((f) => f !== frame))}>
                  Remove
                </Button>
              )}
            </span>
          </div>
        ))}
        <div className="flex gap-1.5 py-0.5">
          <Button
            onClick={moveReference}
            disabled={ui.frame === reference}
            title="Use the frame that is seen as the reference, with the same outline"
          >
            Move here
          </Button>
          <Button
            onClick={() => setReferences([...drape.reference_frames, ui.frame])}
            disabled={drape.reference_frames.includes(ui.frame)}
            title="Follow from the frame that is seen as well; between two references the surface is shared out"
          >
            Also from here
          </Button>
        </div>
        <div className="mt-1 flex gap-1.5">
          <Button onClick={() => setOutline(scaledOutline(outline, 1.1), "Outline larger")}>Larger</Button>
          <Button onClick={() => setOutline(scaledOutline(outline, 1 / 1.1), "Outline smaller")}>
            Smaller
          </Button>
          <Button onClick={remove}>Remove drape</Button>
        </div>
      </Section>
      <PointList outline={outline} onChange={setOutline} />
    </>
  );
}

function TrackSummary({
  track,
  here,
}: {
  track: Track | null | undefined;
  here: { status: string; error: number | null };
}) {
  const ui = useUi();
  const counts = useMemo(() => {
    const found: Record<string, number> = {};
    for (const s of track?.status ?? []) found[s] = (found[s] ?? 0) + 1;
    return Object.entries(found);
  }, [track]);
  if (!track) return <p className="text-dim">Not followed since its last change. The outline is kept.</p>;
  return (
    <p className="text-dim">
      <span className="num text-ink">{track.frames.length}</span> frames followed:{" "}
      {counts.map(([s, n]) => `${n} ${s}`).join(", ")}. On frame <span className="num">{ui.frame}</span>:{" "}
      {here.status}
      {here.error !== null && (
        <>
          , two thirds within <span className="num text-ink">{here.error.toFixed(2)} px</span>
        </>
      )}
      .
    </p>
  );
}

/** Corrections by hand: where, how far they reach, which frames they change. */
function TackList({
  drape,
  followed,
  onChange,
}: {
  drape: Drape;
  followed: boolean;
  onChange: (tacks: Tack[], label: string) => void;
}) {
  const ui = useUi();
  const tacks = drape.tacks ?? [];
  const change = (i: number, part: Partial<Tack>) =>
    onChange(
      tacks.map((t, j) => (j === i ? { ...t, ...part } : t)),
      "Edit tack",
    );
  return (
    <Section title={`Tacks: ${tacks.length || "none"}`}>
      <Button
        disabled={!followed}
        pressed={ui.tool === "tack"}
        onClick={() => ui.set({ tool: "tack", playing: 0 })}
        title="Drag a point of the surface to where it is on this frame (C)"
      >
        Tack here
      </Button>
      {tacks.map((tack, i) => {
        const [first, last] = tackSpan(tack, referenceOf(drape));
        return (
          <div key={i} className="mt-1.5 border-t border-line/50 pt-1">
            <div className="flex items-center justify-between">
              <span>
                Frame <b className="num">{tack.frame}</b>{" "}
                <span className="text-dim">
                  changes <span className="num">{first}</span> to <span className="num">{last}</span>
                </span>
              </span>
              <span className="flex gap-1">
                <Button onClick={() => ui.set({ frame: tack.frame, playing: 0 })}>Go</Button>
                <Button
                  onClick={() =>
                    onChange(
                      tacks.filter((_, j) => j !== i),
                      "Remove tack",
                    )
                  }
                >
                  Remove
                </Button>
              </span>
            </div>
            <NumberField
              label="Reach"
              value={tack.reach ?? TACK_REACH}
              step={5}
              unit="px"
              onCommit={(v) => change(i, { reach: Math.max(2, v) })}
            />
            <NumberField
              label="Fades over, frames"
              value={tack.span ?? TACK_SPAN}
              step={1}
              onCommit={(v) => change(i, { span: Math.max(1, Math.round(v)) })}
            />
          </div>
        );
      })}
    </Section>
  );
}

function NeedsALook({ track }: { track: Track }) {
  const ui = useUi();
  const worst = worstFrames(track, 8);
  if (worst.length === 0)
    return (
      <Section title="Needs a look">
        <p className="text-verdigris">● Nothing: every frame holds.</p>
      </Section>
    );
  return (
    <Section title="Needs a look">
      <div className="flex flex-wrap gap-1">
        {worst.map((w) => (
          <Button
            key={w.frame}
            onClick={() => ui.set({ frame: w.frame, playing: 0 })}
            title={`${w.status}, within ${w.error.toFixed(1)} px`}
          >
            <span className={w.status === "weak" ? "text-saffron" : "text-fail"} aria-hidden>
              {w.status === "weak" ? "▲" : "■"}
            </span>{" "}
            <span className="num">{w.frame}</span>
          </Button>
        ))}
      </div>
    </Section>
  );
}

/** The outline's points as a list: the keyboard's way to what is dragged in the picture. */
export function PointList({
  outline,
  soft = false,
  onChange,
}: {
  outline: Outline;
  /** Whether its edge has a feather, which may differ from point to point. */
  soft?: boolean;
  onChange: (o: Outline, label: string) => void;
}) {
  return (
    <Section title={`Outline: ${outline.points.length} points`}>
      <details>
        <summary className="cursor-pointer text-dim">Edit as a list</summary>
        {outline.points.map(([x, y], i) => (
          <div key={i} className="border-b border-line/50 py-1">
            <NumberField
              label={`Point ${i + 1} x`}
              value={x}
              step={0.5}
              unit="px"
              onCommit={(v) => onChange(movePoint(outline, i, { x: v, y }), "Move point")}
            />
            <NumberField
              label={`Point ${i + 1} y`}
              value={y}
              step={0.5}
              unit="px"
              onCommit={(v) => onChange(movePoint(outline, i, { x, y: v }), "Move point")}
            />
            {soft && (
              <NumberField
                label={`Point ${i + 1} feather`}
                value={outline.feathers?.[i] ?? 1}
                low={0}
                high={50}
                step={0.1}
                unit="times"
                onCommit={(v) => onChange(setFeather(outline, i, v), "Feather of a point")}
              />
            )}
            <div className="flex gap-1">
              <Button kind="quiet" onClick={() => onChange(toggleCorner(outline, i), "Corner")}>
                {outline.corners[i] ? "make smooth" : "make corner"}
              </Button>
              <Button
                kind="quiet"
                onClick={() => {
                  const [nx, ny] = outline.points[(i + 1) % outline.points.length]!;
                  onChange(addPoint(outline, i, { x: (x + nx) / 2, y: (y + ny) / 2 }), "Add point");
                }}
              >
                add after
              </Button>
              <Button
                kind="quiet"
                disabled={outline.points.length <= 3}
                onClick={() => onChange(removePoint(outline, i), "Remove point")}
              >
                remove
              </Button>
            </div>
          </div>
        ))}
      </details>
    </Section>
  );
}
