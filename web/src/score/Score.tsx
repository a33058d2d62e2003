import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import type { Schema } from "../api/client";
import { now, useUi, useUiAside } from "../app/store";
import { timecode } from "../app/timecode";
import { isSeen } from "../features/drape/model";
import { proofQuery, statsQuery, trackQuery, useRecipe, type Track } from "../features/queries";
import { plainNumber, type Drape, type Recipe, type Veil } from "../features/recipe";
import { Button } from "../ui/controls";
import { MeasureShot } from "../features/shot/MeasureShot";
import { readyCanvas } from "../viewer/canvas";
import { COLOURS, STATUS_COLOUR } from "../viewer/overlay/draw";
import { drawCells, drawCurve, frameAt, rulerStep, xOf, type Cell, type Scale } from "./ribbons";

const LABEL_WIDTH = 128;

/** A canvas as wide as its place, drawn anew when its inputs change. */
function Ribbon(props: {
  label: string;
  height?: number;
  draw: (ctx: CanvasRenderingContext2D, s: Scale, height: number) => void;
  scale: Scale;
  selected?: boolean;
  onSelect?: () => void;
  note?: string;
}) {
  const ref = useRef<HTMLCanvasElement>(null);
  const height = props.height ?? 20;
  useEffect(() => {
    const canvas = ref.current!;
    const ctx = readyCanvas(canvas, props.scale.width, height);
    props.draw(ctx, props.scale, height);
  });
  return (
    <div className="flex items-stretch border-b border-line/60" title={props.note}>
      <button
        className={`w-32 shrink-0 truncate border-r border-line px-2 text-left text-[12px] ${props.selected ? "text-bright shadow-[inset_3px_0_0_var(--color-madder)]" : "text-dim hover:text-ink"}`}
        onClick={props.onSelect}
        tabIndex={props.onSelect ? 0 : -1}
      >
        {props.label}
      </button>
      <canvas ref={ref} style={{ width: props.scale.width, height }} aria-hidden />
    </div>
  );
}

function confidenceCells(track: Track | null | undefined): Cell[] {
  if (!track) return [];
  return track.frames.map((frame, i) => {
    const status = track.status[i] ?? "lost";
    return {
      frame,
      colour: STATUS_COLOUR[status] ?? COLOURS.fail,
      height: isSeen(status) ? 1 / (1 + (track.error_px[i] ?? 9)) : 0.12,
      notch: status !== "ok",
    };
  });
}

function DrapeRibbon({ shot, drape, scale }: { shot: number; drape: Drape; scale: Scale }) {
  const { data: track } = useQuery(trackQuery(shot, drape.name));
  const { selection, set } = useUiAside();
  return (
    <Ribbon
      label={`${drape.name} holds`}
      note="How sure the drape is on each frame; notched where it needs a look"
      scale={scale}
      selected={selection.kind === "drape" && selection.name === drape.name}
      onSelect={() => set({ selection: { kind: "drape", name: drape.name }, stage: "drape" })}
      draw={(ctx, s, h) => {
        drawCells(ctx, s, h, confidenceCells(track));
        // Reference frames: a pennant each, full on the main one.
        ctx.fillStyle = ctx.strokeStyle = COLOURS.madder;
        for (const [i, frame] of drape.reference_frames.entries()) {
          const x = xOf(s, frame);
          ctx.fillRect(x - 0.75, 0, 1.5, h);
          ctx.beginPath();
          ctx.moveTo(x, 0);
          ctx.lineTo(x + 8, 3.5);
          ctx.lineTo(x, 7);
          if (i === 0) ctx.fill();
          else ctx.stroke();
        }
      }}
    />
  );
}

function VeilRibbon({
  veil,
  proof,
  track,
  scale,
}: {
  veil: Veil;
  proof: Schema["VeilProof"] | undefined;
  track: Track | null | undefined;
  scale: Scale;
}) {
  const { selection, set } = useUiAside();
  const judged = new Map((proof?.frames ?? []).map((f) => [f.frame, f.verdict]));
  const on = (frame: number) => {
    const status = track?.status[track.rowOf.get(frame) ?? -1];
    const inRange = !veil.range || (frame >= veil.range[0] && frame <= veil.range[1]);
    return veil.enabled !== false && inRange && isSeen(status) && plainNumber(veil.opacity, 1) > 0;
  };
  const colours = { pass: COLOURS.verdigris, caution: COLOURS.saffron, fail: COLOURS.fail } as const;
  const cells: Cell[] = [];
  for (let f = scale.first; f <= scale.last; f++) {
    if (!on(f)) continue;
    const verdict = judged.get(f);
    cells.push({
      frame: f,
      colour: verdict ? colours[verdict] : "#8a8a8a",
      height: 0.45,
      notch: verdict !== undefined && verdict !== "pass",
    });
  }
  return (
    <Ribbon
      label={veil.name}
      note="Where the veil is laid; coloured once the proof has been measured, notched where it needs a look"
      scale={scale}
      height={16}
      selected={selection.kind === "veil" && selection.name === veil.name}
      onSelect={() => set({ selection: { kind: "veil", name: veil.name }, stage: "veil" })}
      draw={(ctx, s, h) => drawCells(ctx, s, h, cells)}
    />
  );
}

function VeilRibbons({ shot, recipe, scale }: { shot: number; recipe: Recipe; scale: Scale }) {
  const { data: proof } = useQuery(proofQuery(shot));
  return recipe.drapes.map((d) => (
    <DrapeGroup
      key={d.name}
      shot={shot}
      drape={d}
      veils={recipe.veils.filter((v) => v.drape === d.name)}
      proof={proof ?? null}
      scale={scale}
    />
  ));
}

function DrapeGroup(props: {
  shot: number;
  drape: Drape;
  veils: Veil[];
  proof: Schema["Proof"] | null;
  scale: Scale;
}) {
  const { data: track } = useQuery(trackQuery(props.shot, props.drape.name));
  const { selection } = useUiAside();
  const chosen = selection.kind === "drape" && selection.name === props.drape.name;
  return (
    <>
      <DrapeRibbon shot={props.shot} drape={props.drape} scale={props.scale} />
      {chosen && track && (
        <Ribbon
          label="  trembles"
          note={`How much it accelerates from frame to frame: up to ${Math.max(...track.jitter_px).toFixed(2)} px`}
          scale={props.scale}
          height={16}
          draw={(ctx, s, h) => drawCurve(ctx, s, h, track.jitter_px, track.frames[0]!, COLOURS.saffron)}
        />
      )}
      {chosen && track?.round_trip_px && (
        <Ribbon
          label="  way back"
          note="How far apart following forth and back are, per frame"
          scale={props.scale}
          height={16}
          draw={(ctx, s, h) =>
            drawCurve(
              ctx,
              s,
              h,
              track.round_trip_px!.map((v) => v ?? 0),
              track.frames[0]!,
              COLOURS.verdigris,
            )
          }
        />
      )}
      {props.veils.map((v) => (
        <VeilRibbon
          key={v.name}
          veil={v}
          proof={props.proof?.veils[v.name]}
          track={track}
          scale={props.scale}
        />
      ))}
    </>
  );
}

type Shot = Schema["Shot"];

/** What moves with the playhead stands apart from what does not: the ribbons are not drawn anew for a frame. */
export function Score({ shot, setRange }: { shot: Shot; setRange: (a: number, b: number) => void }) {
  const { data: revision } = useRecipe(shot.id);
  const { data: stats } = useQuery(statsQuery(shot.id));
  const ui = useUiAside();
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(400);
  const dragging = useRef<"scrub" | "in" | "out" | null>(null);
  const { first_frame: first, last_frame: last } = shot.facts;
  const scale: Scale = useMemo(() => ({ first, last, width }), [first, last, width]);

  useEffect(() => {
    const element = box.current!;
    const measure = () => setWidth(Math.max(50, element.clientWidth - LABEL_WIDTH - 2));
    const observer = new ResizeObserver(measure);
    observer.observe(element);
    measure();
    return () => observer.disconnect();
  }, []);

  const left = () => box.current!.getBoundingClientRect().left + LABEL_WIDTH;
  const scrub = (e: React.PointerEvent) => {
    const frame = frameAt(scale, e.clientX - left());
    if (dragging.current === "in") setRange(Math.min(frame, shot.out_frame), shot.out_frame);
    else if (dragging.current === "out") setRange(shot.in_frame, Math.max(frame, shot.in_frame));
    else ui.set({ frame, playing: 0 });
  };
  const onPointerDown = (e: React.PointerEvent) => {
    const x = e.clientX - left();
    if (x < 0) return;
    box.current!.setPointerCapture(e.pointerId);
    const onRuler = (e.target as HTMLElement).dataset.ruler !== undefined;
    const half = width / (last - first + 1) / 2;
    const near = (frame: number, side: number) => Math.abs(x - (xOf(scale, frame) + side * half)) < 6;
    dragging.current =
      onRuler && near(shot.in_frame, -1) ? "in" : onRuler && near(shot.out_frame, 1) ? "out" : "scrub";
    scrub(e);
  };
  const curve = (values: number[]) => (ctx: CanvasRenderingContext2D, s: Scale, h: number) =>
    drawCurve(ctx, s, h, values, first, "#cfcfcf");

  return (
    <div className="flex min-h-0 flex-1 flex-col bg-panel">
      <Transport shot={shot} />
      <div
        ref={box}
        className="relative min-h-0 flex-1 overflow-x-hidden overflow-y-auto"
        onPointerDown={onPointerDown}
        onPointerMove={(e) => dragging.current && scrub(e)}
        onPointerUp={() => (dragging.current = null)}
      >
        <div className="sticky top-0 z-10 flex h-[22px] bg-panel">
          <span className="w-32 shrink-0 border-r border-line" />
          <Ruler shot={shot} scale={scale} proposals={stats?.proposals ?? []} />
        </div>
        {stats ? (
          <>
            <Ribbon
              label="sharpness"
              note="Fine contrast at edges; higher is sharper"
              scale={scale}
              selected={ui.selection.kind === "shot"}
              onSelect={() => ui.set({ selection: { kind: "shot" }, stage: "shot" })}
              draw={curve(stats.sharpness)}
            />
            <Ribbon
              label="motion"
              note={`Up to ${Math.max(...stats.motion).toFixed(1)} px a frame`}
              scale={scale}
              draw={curve(stats.motion)}
            />
            <Ribbon label="exposure" note="Mean brightness" scale={scale} draw={curve(stats.exposure)} />
          </>
        ) : (
          <div className="flex items-center gap-2 py-2 pl-34 text-dim">
            Sharpness, motion and exposure have not been measured yet.
            <MeasureShot shot={shot.id}>Measure</MeasureShot>
          </div>
        )}
        {revision && <VeilRibbons shot={shot.id} recipe={revision.recipe} scale={scale} />}
        <Playhead shot={shot} scale={scale} box={box} />
      </div>
    </div>
  );
}

function Playhead({
  shot,
  scale,
  box,
}: {
  shot: Shot;
  scale: Scale;
  box: React.RefObject<HTMLDivElement | null>;
}) {
  const frame = useUi((s) => s.frame);
  return (
    <div
      role="slider"
      aria-label="Playhead"
      aria-valuemin={shot.facts.first_frame}
      aria-valuemax={shot.facts.last_frame}
      aria-valuenow={frame}
      tabIndex={0}
      className="pointer-events-none absolute top-0 z-20 w-0.5 bg-madder"
      style={{
        left: Math.round(LABEL_WIDTH + xOf(scale, frame)) - 1,
        height: Math.max(178, box.current?.scrollHeight ?? 0),
      }}
    />
  );
}

function Transport({ shot }: { shot: Shot }) {
  const frame = useUi((s) => s.frame);
  const playing = useUi((s) => s.playing);
  const ui = useUiAside();
  const { first_frame: first, last_frame: last, rate } = shot.facts;
  const go = (f: number) => ui.set({ frame: Math.min(last, Math.max(first, f)), playing: 0 });
  return (
    <div className="flex h-9 shrink-0 items-center gap-1.5 border-b border-line px-2">
      <Button label={playing ? "Pause" : "Play"} onClick={() => ui.set({ playing: now().playing ? 0 : 1 })}>
        {playing ? "Pause" : "Play"}
      </Button>
      <Button kind="quiet" onClick={() => go(now().frame - 1)} title="One frame back (Left)">
        -1
      </Button>
      <Button kind="quiet" onClick={() => go(now().frame + 1)} title="One frame on (Right)">
        +1
      </Button>
      <Button pressed={ui.loop} onClick={() => ui.set({ loop: !ui.loop })}>
        Loop
      </Button>
      {ui.span && (
        <Button kind="quiet" onClick={() => ui.set({ span: null })} title="Play the whole range again">
          only <span className="num">{ui.span[0]}</span> to <span className="num">{ui.span[1]}</span>
        </Button>
      )}
      <label className="ml-2 flex items-center gap-1 text-dim">
        frame
        <FrameField frame={frame} first={first} last={last} onGo={go} />
      </label>
      <span className="num text-ink" aria-label="Timecode">
        {timecode(frame - first + shot.start_count, rate, shot.drop)}
      </span>
      {Math.abs(playing) > 1 && <span className="num text-saffron">{playing}x</span>}
      <span className="ml-auto flex items-center gap-2 text-dim">
        in <b className="num text-ink">{shot.in_frame}</b> out{" "}
        <b className="num text-ink">{shot.out_frame}</b>
        <span className="num">{rate} fps</span>
      </span>
    </div>
  );
}

function Ruler({ shot, scale, proposals }: { shot: Shot; scale: Scale; proposals: Schema["Proposal"][] }) {
  const { first, last, width } = scale;
  const step = rulerStep(last - first + 1, width);
  const cell = width / (last - first + 1);
  const from = Math.ceil(first / step);
  const labels = Array.from({ length: Math.floor(last / step) - from + 1 }, (_, i) => (from + i) * step);
  return (
    <svg width={width} height={22} data-ruler className="block cursor-ew-resize" aria-hidden>
      <rect
        data-ruler
        x={xOf(scale, shot.in_frame) - cell / 2}
        y={0}
        height={5}
        rx={1.5}
        width={Math.max(2, xOf(scale, shot.out_frame) - xOf(scale, shot.in_frame) + cell)}
        fill="#777777"
      />
      {labels.map((f) => (
        <g key={f} data-ruler>
          <line x1={xOf(scale, f)} x2={xOf(scale, f)} y1={16} y2={22} stroke="#555555" />
          <text
            x={xOf(scale, f)}
            y={15}
            textAnchor="middle"
            fill="#a3a3a3"
            fontSize={11}
            fontFamily="JetBrains Mono Variable"
            data-ruler
          >
            {f}
          </text>
        </g>
      ))}
      {proposals.map((p) => (
        <path key={p.frame} data-ruler d={`M${xOf(scale, p.frame)} 22 l-4 -5 h8 z`} fill={COLOURS.verdigris}>
          <title>{`Proposed reference frame ${p.frame}: ${p.why}`}</title>
        </path>
      ))}
    </svg>
  );
}

function FrameField(props: { frame: number; first: number; last: number; onGo: (frame: number) => void }) {
  const [text, setText] = useState(String(props.frame));
  useEffect(() => setText(String(props.frame)), [props.frame]);
  const go = () => {
    const wanted = Math.round(Number(text));
    if (text.trim() !== "" && Number.isFinite(wanted))
      props.onGo(Math.min(props.last, Math.max(props.first, wanted)));
    else setText(String(props.frame));
  };
  return (
    <input
      aria-label="Frame"
      className="num w-14 rounded border border-line bg-ground px-1 py-0.5 text-right text-bright"
      value={text}
      onChange={(e) => setText(e.target.value)}
      onBlur={go}
      onKeyDown={(e) => {
        if (e.key !== "Enter") return;
        go();
        e.currentTarget.blur(); // so that the keys mean playing again
      }}
    />
  );
}
