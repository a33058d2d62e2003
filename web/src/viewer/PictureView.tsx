import { useCallback, useEffect, useMemo, useRef, useState, type ReactNode } from "react";
import { useUi, type Look, type ToolName } from "../app/store";
import { distance, type FramePt, type ScreenPt } from "../geometry/points";
import { fitted, panned, toFrame, zoomedAt, type Viewport } from "../geometry/viewport";
import {
  addPoint,
  gripAt,
  moveAll,
  movePoint,
  removePoint,
  setFeather,
  toggleCorner,
} from "../geometry/outlineEdits";
import { matteLook } from "./addresses";
import type { GripItem } from "./artGrips";
import { readyCanvas } from "./canvas";
import type {
  BrushItem,
  DonorItem,
  Drag,
  EllipseItem,
  MeshItem,
  NoteItem,
  OutlineItem,
  ViewPictures,
} from "./items";
import { COLOURS } from "./overlay/draw";
import { drawLying, drawWipe, type Lying } from "./overlay/lying";
import { drawPicture } from "./overlay/picture";
import { useBitmaps } from "./useBitmaps";

interface Props {
  name: string;
  width: number;
  height: number;
  shown: ViewPictures;
  look: Look;
  playing: boolean;
  outlines: OutlineItem[];
  donors: DonorItem[];
  mesh: MeshItem | null;
  note: NoteItem | null;
  tool: ToolName;
  onCircle: (centre: FramePt, radius: number) => void;
  onDrawn: (points: FramePt[]) => void;
  grips?: GripItem | null;
  ellipses?: EllipseItem[];
  /** What is being tried: shown instead of the result while it is dragged. */
  preview?: ImageBitmap | null;
  /** Painting: the brush's radius in picture px, where it samples, and what a stroke becomes. */
  brush?: BrushItem | null;
  tacks?: { to: FramePt; reach: number }[];
  /** What a click does with the tools for points and vertices; absent: points are dragged to where they are. */
  onPoint?: (p: FramePt, off: boolean) => void;
  /** Points that were placed by hand, and places whose points are off. */
  dots?: { placed: FramePt[]; off: FramePt[]; around?: { at: FramePt; radius: number }[] };
  onTack?: (from: FramePt, to: FramePt) => void;
  empty?: ReactNode;
  head: ReactNode;
}

/** A pen's own pressure; a mouse presses fully. */
const pressureOf = (e: React.PointerEvent): number =>
  e.pointerType === "pen" && e.pressure > 0 ? e.pressure : 1;

const REACH_SCREEN_PX = 9;

export function PictureView(props: Props) {
  const { width, height, shown, look, outlines, donors, tool, playing } = props;
  const drawing = tool === "outline" || tool === "holdout";
  const box = useRef<HTMLDivElement>(null);
  const pictureCanvas = useRef<HTMLCanvasElement>(null);
  const overlayCanvas = useRef<HTMLCanvasElement>(null);
  const [size, setSize] = useState({ width: 0, height: 0 });
  const [chosen, setChosen] = useState<Viewport | null>(null);
  const [drag, setDrag] = useState<Drag | null>(null);
  const [drawn, setDrawn] = useState<FramePt[]>([]);
  const [hot, setHot] = useState<{ id: string; index: number } | null>(null);
  const [pointer, setPointer] = useState<FramePt | null>(null);
  const { bitmaps, seen, refusal, address } = useBitmaps(shown, playing);
  const shownBitmap = useRef<ImageBitmap | null>(null);
  const wipe = useUi((s) => s.wipe);
  const gain = useUi((s) => s.differenceGain);
  const pad = useUi((s) => s.pad);
  const lens = useUi((s) => s.lens);
  const hidden = useUi((s) => s.overlaysHidden || s.overlaysHeld);
  const set = useUi((s) => s.set);

  const view = useMemo(
    () => chosen ?? fitted(width, height, size.width || 1, size.height || 1),
    [chosen, width, height, size],
  );
  const reach = REACH_SCREEN_PX / view.scale;

  useEffect(() => {
    const element = box.current!;
    const observer = new ResizeObserver(() =>
      setSize({ width: element.clientWidth, height: element.clientHeight }),
    );
    observer.observe(element);
    setSize({ width: element.clientWidth, height: element.clientHeight });
    return () => observer.disconnect();
  }, []);

  useEffect(() => {
    if (!drawing) setDrawn([]);
  }, [drawing]);

  // The picture: redrawn only when what is seen changes, never by the pointer.
  useEffect(() => {
    const canvas = pictureCanvas.current!;
    const ctx = readyCanvas(canvas, size.width, size.height);
    const [known, top] = bitmaps();
    const bottom = (look === "result" || matteLook(look)) && props.preview ? props.preview : known;
    if (!bottom) return;
    shownBitmap.current = bottom;
    drawPicture(ctx, view, { bottom, top }, { width, height }, { look, wipe, gain });
    canvas.dataset.shown = address;
  }, [...seen, view, size, look, wipe, gain, width, height, props.preview]); // eslint-disable-line react-hooks/exhaustive-deps

  // What lies on the picture: one canvas of its own.
  useEffect(() => {
    const ctx = readyCanvas(overlayCanvas.current!, size.width, size.height);
    const lying: Lying = {
      ...props,
      viewHeight: size.height,
      wipe,
      drag,
      drawn,
      pointer,
      hot,
      lens: lens ? shownBitmap.current : null,
      note: refusal === null ? props.note : { text: refusal, colour: COLOURS.fail },
    };
    if (look === "wipe") drawWipe(ctx, view, lying);
    if (!hidden) drawLying(ctx, view, lying);
  }, [view, size, hidden, look, wipe, lens, drag, drawn, pointer, hot, refusal, props]);

  const at = (e: { clientX: number; clientY: number }): ScreenPt => {
    const r = box.current!.getBoundingClientRect();
    return { x: e.clientX - r.left, y: e.clientY - r.top };
  };

  const active = outlines.find((o) => o.active && o.onCommit);

  const onPointerDown = (e: React.PointerEvent) => {
    box.current!.setPointerCapture(e.pointerId);
    const s = at(e);
    const p = toFrame(view, s);
    if (e.button === 1 || e.altKey) return setDrag({ kind: "pan", x: s.x, y: s.y });
    if (e.button !== 0) return;
    if ((tool === "point" || tool === "vertex") && props.onPoint) return props.onPoint(p, e.shiftKey);
    if (tool === "source" && props.brush) return props.brush.onSource(p);
    if (tool === "stroke" && props.brush?.chosen) return setDrag({ kind: "move", from: p, to: p });
    if (tool === "brush" && props.brush)
      return setDrag({ kind: "stroke", points: [{ ...p, pressure: pressureOf(e) }] });
    if (tool === "spot" || tool === "mark") return setDrag({ kind: "circle", centre: p, radius: 0 });
    if (tool === "tack" || tool === "point") return setDrag({ kind: "tack", from: p, to: p });
    if (drawing) {
      const first = drawn[0];
      if (first && drawn.length >= 3 && distance(first, p) < reach) return closeDrawn();
      return setDrawn([...drawn, p]);
    }
    if (look === "wipe" && Math.abs(s.x - (view.left + width * view.scale * wipe)) < 8)
      return setDrag({ kind: "wipe" });
    const ring = hidden
      ? -1
      : donors.findIndex((d) => d.onCommit && distance(p, d.donor) < Math.max(reach, d.radius * 0.7));
    if (ring >= 0) return setDrag({ kind: "donor", index: ring, at: donors[ring]!.donor });
    if (!hidden && props.grips) {
      const near = props.grips.points.filter((g) => distance(g.at, p) < reach);
      const held = near.sort((a, b) => distance(a.at, p) - distance(b.at, p))[0];
      if (held) return setDrag({ kind: "grip", id: held.id, to: p });
    }
    if (!hidden && active) {
      const grip = gripAt(active.outline, p, reach);
      if (grip?.kind === "point") setHot({ id: active.id, index: grip.index });
      if (grip) {
        const index = grip.kind === "point" ? grip.index : null;
        return setDrag({
          kind: "outline",
          id: active.id,
          index,
          feather: index !== null && e.shiftKey && active.feather ? active.feather : null,
          from: p,
          start: active.outline,
          now: active.outline,
        });
      }
    }
    setHot(null);
    setDrag({ kind: "pan", x: s.x, y: s.y });
  };

  const onPointerMove = (e: React.PointerEvent) => {
    const s = at(e);
    const p = toFrame(view, s);
    if (drawing || lens || tool === "spot" || tool === "brush" || tool === "source") setPointer(p);
    if (!drag) return;
    if (drag.kind === "pan") {
      setChosen(panned(view, s.x - drag.x, s.y - drag.y));
      setDrag({ kind: "pan", x: s.x, y: s.y });
    } else if (drag.kind === "wipe")
      set({ wipe: Math.min(1, Math.max(0, (s.x - view.left) / (width * view.scale))) });
    else if (drag.kind === "circle") setDrag({ ...drag, radius: distance(drag.centre, p) });
    else if (drag.kind === "donor") setDrag({ ...drag, at: p });
    else if (drag.kind === "tack") setDrag({ ...drag, to: p });
    else if (drag.kind === "stroke") {
      const points = [...drag.points, { ...p, pressure: pressureOf(e) }];
      setDrag({ kind: "stroke", points });
      props.brush?.onStroke(points, false);
    } else if (drag.kind === "move") {
      setDrag({ ...drag, to: p });
      props.brush?.onMove(drag.from, p, false);
    } else if (drag.kind === "grip") {
      setDrag({ ...drag, to: p });
      props.grips?.onDrag(drag.id, p, false);
    } else {
      const now =
        drag.index === null
          ? moveAll(drag.start, p.x - drag.from.x, p.y - drag.from.y)
          : drag.feather === null
            ? movePoint(drag.start, drag.index, p)
            : setFeather(drag.start, drag.index, distance(drag.from, p) / drag.feather);
      setDrag({ ...drag, now });
    }
  };

  const onPointerUp = () => {
    const done = drag;
    setDrag(null);
    if (!done) return;
    if (done.kind === "stroke") props.brush?.onStroke(done.points, true);
    if (done.kind === "move") props.brush?.onMove(done.from, done.to, true);
    if (done.kind === "circle") props.onCircle(done.centre, Math.max(done.radius, 3));
    if (done.kind === "grip") props.grips?.onDrag(done.id, done.to, true);
    if (done.kind === "tack") props.onTack?.(done.from, done.to);
    if (done.kind === "donor") donors[done.index]?.onCommit?.(done.at);
    if (done.kind === "outline" && done.now !== done.start) active?.onCommit?.(done.now);
  };

  const closeDrawn = () => {
    if (drawn.length >= 3) props.onDrawn(drawn);
    setDrawn([]);
  };

  const onDoubleClick = (e: React.MouseEvent) => {
    if (drawing) return closeDrawn();
    if (!active || hidden) return setChosen(null);
    const p = toFrame(view, at(e));
    const grip = gripAt(active.outline, p, reach);
    if (grip?.kind === "edge") active.onCommit?.(addPoint(active.outline, grip.index, p));
    else if (grip?.kind === "point") active.onCommit?.(toggleCorner(active.outline, grip.index));
    else if (!grip) setChosen(null);
  };

  const onKeyDown = (e: React.KeyboardEvent) => {
    if (drawing && e.key === "Enter") return closeDrawn();
    if (e.key === "Escape") {
      setDrawn([]);
      setDrag(null);
      return set({ tool: "none" });
    }
    if (!active || !hot || hot.id !== active.id) return;
    const steps: Record<string, [number, number]> = {
      ArrowLeft: [-1, 0],
      ArrowRight: [1, 0],
      ArrowUp: [0, -1],
      ArrowDown: [0, 1],
    };
    const step = steps[e.key];
    const point = active.outline.points[hot.index];
    if (step && point) {
      e.preventDefault();
      e.stopPropagation();
      const k = e.shiftKey ? 10 : 1;
      active.onCommit?.(
        movePoint(active.outline, hot.index, { x: point[0] + step[0] * k, y: point[1] + step[1] * k }),
      );
    }
    if (e.key === "Delete" || e.key === "Backspace") {
      e.preventDefault();
      active.onCommit?.(removePoint(active.outline, hot.index));
      setHot(null);
    }
  };

  const onWheel = useCallback(
    (e: WheelEvent) => {
      e.preventDefault();
      const r = box.current!.getBoundingClientRect();
      setChosen(
        zoomedAt(view, { x: e.clientX - r.left, y: e.clientY - r.top }, Math.exp(-e.deltaY * 0.0016)),
      );
    },
    [view],
  );
  useEffect(() => {
    const element = box.current!;
    element.addEventListener("wheel", onWheel, { passive: false });
    return () => element.removeEventListener("wheel", onWheel);
  }, [onWheel]);

  const zoomTo = (scale: number) =>
    setChosen(zoomedAt(view, { x: size.width / 2, y: size.height / 2 }, scale / view.scale));
  const pads = { dark: "bg-[#161616]", middle: "bg-[#777777]", light: "bg-[#c4c4c4]" };
  const cursor =
    tool !== "none" ? "cursor-crosshair" : drag?.kind === "pan" ? "cursor-grabbing" : "cursor-default";

  return (
    <div className="@container flex min-w-0 flex-1 flex-col" role="group" aria-label={props.name}>
      <div className="flex h-8 shrink-0 items-center gap-2 border-b border-line bg-panel px-2">
        {props.head}
        <span className="ml-auto flex shrink-0 items-center gap-1 text-[12px] text-dim">
          <button
            className="rounded px-1.5 hover:text-bright"
            onClick={() => setChosen(null)}
            title="Whole picture"
          >
            fit
          </button>
          <button className="rounded px-1.5 hover:text-bright" onClick={() => zoomTo(1)} title="One to one">
            1:1
          </button>
          <button className="rounded px-1.5 hover:text-bright" onClick={() => zoomTo(2)} title="200 %">
            2:1
          </button>
          <span className="num w-11 text-right">{Math.round(view.scale * 100)} %</span>
        </span>
      </div>
      <div
        ref={box}
        tabIndex={0}
        aria-label={`${props.name}: picture`}
        data-testid={`view-${props.name}`}
        className={`relative min-h-0 flex-1 overflow-hidden ${pads[pad]} ${cursor}`}
        onPointerDown={onPointerDown}
        onPointerMove={onPointerMove}
        onPointerUp={onPointerUp}
        onPointerLeave={() => setPointer(null)}
        onDoubleClick={onDoubleClick}
        onKeyDown={onKeyDown}
        onAuxClick={(e) => e.preventDefault()}
      >
        <canvas
          ref={pictureCanvas}
          className="absolute inset-0 h-full w-full"
          data-testid={`picture-${props.name}`}
        />
        <canvas ref={overlayCanvas} className="pointer-events-none absolute inset-0 h-full w-full" />
        {props.empty && (
          <div className="absolute inset-0 flex items-center justify-center bg-ground/60 p-6 text-center">
            {props.empty}
          </div>
        )}
      </div>
    </div>
  );
}
