import { Button, NumberField, Section } from "../../ui/controls";
import { addPoint, movePoint, removePoint, setFeather, toggleCorner } from "../../geometry/outlineEdits";
import type { Outline } from "../recipe";

/** The outline's points as a list: the keyboard's way to what is dragged in the picture. */
export function OutlineList({
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
