import { useUi, useUiAside } from "../../app/store";
import { Button, Choice, NumberField, Section, Select, Switch } from "../../ui/controls";
import type { Veil } from "../recipe";
import {
  BRUSH_PARTS,
  BRUSH_TOOLS,
  samples,
  strokesOf,
  type Brush,
  type BrushTool,
  type Stroke,
} from "./brush";

const HELP: Record<BrushTool, string> = {
  heal: "Takes texture from the source and light from around: seams do not show.",
  clone: "Takes all of it from the source, as it is.",
  colour: "Lays a colour; on tone only, pores and light stay.",
  soften: "Blurs what is there.",
  erase: "Takes paint off again.",
  restore: "Brings the untouched clip back through everything below.",
};

const NUMBERS = [
  { name: "radius", label: "Radius", step: 0.5, low: 0.5, high: 500, unit: "px" },
  { name: "softness", label: "Softness", step: 0.05, low: 0, high: 1, unit: "" },
  { name: "opacity", label: "Opacity", step: 0.05, low: 0, high: 1, unit: "" },
  { name: "flow", label: "Flow", step: 0.05, low: 0, high: 1, unit: "" },
] as const;

/** The brush's size and how it lays. */
export function BrushNumbers() {
  const brush = useUi((s) => s.brush);
  const set = useUi((s) => s.set);
  return NUMBERS.map(({ name, ...field }) => (
    <NumberField
      key={name}
      value={brush[name]}
      onCommit={(v) => set({ brush: { ...brush, [name]: v } })}
      {...field}
    />
  ));
}

/** Puts the brush into the hand, or down. */
export function TakeBrush() {
  const tool = useUi((s) => s.tool);
  const set = useUi((s) => s.set);
  return (
    <Button
      kind="main"
      pressed={tool === "brush"}
      onClick={() => set({ tool: tool === "brush" ? "none" : "brush", playing: 0, flatShown: true })}
      title="Paint in the flat view, or in the shot view (A)"
    >
      {tool === "brush" ? "Put the brush down" : "Take the brush"}
    </Button>
  );
}

/** The brush, and the strokes that have been laid. */
export function PaintSection({
  veil,
  onChange,
}: {
  veil: Veil;
  onChange: (strokes: Stroke[], label: string) => void;
}) {
  const brush = useUi((s) => s.brush);
  const tool = useUi((s) => s.tool);
  const set = useUi((s) => s.set);
  const change = (part: Partial<Brush>) => set({ brush: { ...brush, ...part } });
  const strokes = strokesOf(veil);
  return (
    <>
      <Section title="Brush">
        <div className="mb-1.5 flex gap-1.5">
          <TakeBrush />
          {samples(brush.tool) && (
            <Button
              pressed={tool === "source"}
              onClick={() => set({ tool: "source", playing: 0 })}
              title="Click where clean skin is taken from (N)"
            >
              Set the source
            </Button>
          )}
        </div>
        <Select
          label="Brush tool"
          value={brush.tool}
          options={BRUSH_TOOLS}
          onChange={(t) => change({ tool: t as BrushTool })}
          help={HELP[brush.tool]}
        />
        <p className="text-[12px] text-dim">{HELP[brush.tool]}</p>
        <div className="mt-1.5" />
        {brush.tool !== "erase" && (
          <Choice
            label="What is painted"
            value={brush.part}
            options={BRUSH_PARTS.map((p) => ({ value: p, text: p === "whole" ? "whole" : `${p} only` }))}
            onChange={(p) => change({ part: p })}
          />
        )}
        <div className="mt-1.5" />
        <BrushNumbers />
        {brush.tool === "soften" && (
          <NumberField
            label="Softens by"
            value={brush.amount}
            low={0.3}
            high={100}
            step={0.1}
            unit="px"
            onCommit={(amount) => change({ amount })}
          />
        )}
        {brush.tool === "colour" && (
          <label className="flex items-center justify-between py-0.5">
            Colour
            <span className="flex items-center gap-1.5">
              <Button
                pressed={tool === "source"}
                onClick={() => set({ tool: "source", playing: 0 })}
                title="Click in a view: the mean colour around that place is taken"
              >
                Sample
              </Button>
              <input
                type="color"
                aria-label="Brush colour"
                value={brush.colour}
                onChange={(e) => change({ colour: e.target.value })}
                className="h-6 w-10 rounded border border-line bg-ground"
              />
            </span>
          </label>
        )}
        {samples(brush.tool) && (
          <>
            <Switch
              label="Source goes along"
              help="On: the step to the source stays the same for all strokes. Off: every stroke begins at the source."
              checked={brush.follows}
              onChange={(follows) => change({ follows })}
            />
            <Choice
              label="Sampled from"
              value={brush.sampling}
              options={[
                { value: "painted", text: "what is painted" },
                { value: "original", text: "the original" },
              ]}
              onChange={(sampling) => change({ sampling })}
            />
            {!brush.source && (
              <p className="mt-1 text-[12px] text-saffron">
                Set the source first: click where the skin is clean.
              </p>
            )}
          </>
        )}
      </Section>
      <StrokeList strokes={strokes} onChange={onChange} />
    </>
  );
}

/** The strokes that have been laid: each can be switched off, given another radius, removed. */
export function StrokeList({
  strokes,
  onChange,
}: {
  strokes: Stroke[];
  onChange: (strokes: Stroke[], label: string) => void;
}) {
  const { tool, stroke, set } = useUiAside();
  const swap = (i: number, part: Partial<Stroke>, label: string) =>
    onChange(
      strokes.map((s, j) => (j === i ? { ...s, ...part } : s)),
      label,
    );
  return (
    <Section title={`Strokes: ${strokes.length || "none"}`}>
      <div className="max-h-48 overflow-auto">
        {strokes.map((s, i) => (
          <div key={i} className="flex items-center gap-1 border-b border-line/50 py-0.5">
            <span className={`min-w-0 flex-1 truncate ${s.enabled === false ? "text-dim line-through" : ""}`}>
              <span className="num text-dim">{i + 1}</span> {s.tool}
              {s.part && s.part !== "whole" ? `, ${s.part}` : ""}
            </span>
            <input
              type="number"
              aria-label={`Radius of stroke ${i + 1}`}
              className="num w-12 rounded border border-line bg-ground px-1 text-right"
              defaultValue={s.radius ?? 8}
              min={0.5}
              step={0.5}
              onBlur={(e) => {
                const radius = Number(e.target.value);
                if (radius > 0 && radius !== s.radius) swap(i, { radius }, "Radius of a stroke");
              }}
            />
            <Button
              kind="quiet"
              label={`Move stroke ${i + 1}`}
              pressed={tool === "stroke" && stroke === i}
              title="Drag it to another place, in either view"
              onClick={() =>
                set(
                  tool === "stroke" && stroke === i
                    ? { tool: "none" }
                    : { tool: "stroke", stroke: i, playing: 0 },
                )
              }
            >
              move
            </Button>
            <Button
              kind="quiet"
              onClick={() => swap(i, { enabled: s.enabled === false }, "Stroke on or off")}
            >
              {s.enabled === false ? "off" : "on"}
            </Button>
            <Button
              kind="quiet"
              label={`Remove stroke ${i + 1}`}
              onClick={() =>
                onChange(
                  strokes.filter((_, j) => j !== i),
                  "Remove a stroke",
                )
              }
            >
              x
            </Button>
          </div>
        ))}
      </div>
    </Section>
  );
}
