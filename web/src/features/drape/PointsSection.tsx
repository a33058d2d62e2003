import { useUi } from "../../app/store";
import { Button, Section } from "../../ui/controls";
import type { Pair } from "../recipe";

/** Points that are placed by hand, beside those that are found. */
export function PointsSection({
  reference,
  options,
  onChange,
}: {
  reference: number;
  options: Record<string, unknown>;
  onChange: (options: Record<string, unknown>, label: string) => void;
}) {
  const { tool, frame, set } = useUi();
  const placed = (options.placed as Pair[] | undefined) ?? [];
  const off = (options.off as Pair[] | undefined) ?? [];
  return (
    <Section title={`Points: ${placed.length} placed, ${off.length} off`}>
      <div className="flex flex-wrap gap-1.5">
        <Button
          pressed={tool === "point"}
          onClick={() => set({ tool: tool === "point" ? "none" : "point", frame: reference, playing: 0 })}
          title="On the reference frame: click to place a point, Shift and click to switch the nearest one off"
        >
          {tool === "point" ? "Done placing" : "Place points"}
        </Button>
        <Button
          disabled={placed.length + off.length === 0}
          onClick={() => onChange({ ...options, placed: [], off: [] }, "Points as found")}
        >
          As found
        </Button>
      </div>
      {tool === "point" && (
        <p className="mt-1 text-[12px] text-saffron">
          {frame === reference
            ? "Click to place a point; Shift and click switches the nearest one off."
            : "Points are placed on the reference frame."}
        </p>
      )}
    </Section>
  );
}
