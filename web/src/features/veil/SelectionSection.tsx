import { useUi } from "../../app/store";
import { Button, Choice, Section } from "../../ui/controls";
import type { Veil } from "../recipe";
import { strokesOf, type Stroke } from "./brush";
import { BrushNumbers, StrokeList, TakeBrush } from "./PaintSection";

/** Correcting by brush what a veil has selected, and seeing it while one does. */
export function SelectionSection({
  veil,
  onChange,
}: {
  veil: Veil;
  onChange: (strokes: Stroke[], label: string) => void;
}) {
  const brush = useUi((s) => s.brush);
  const look = useUi((s) => s.look);
  const set = useUi((s) => s.set);
  return (
    <>
      <Section title="Selection by hand">
        <div className="mb-1.5 flex gap-1.5">
          <TakeBrush />
          <Button
            pressed={look === "tint"}
            onClick={() => set({ look: look === "tint" ? "result" : "tint" })}
            title="Tints what is selected over the picture"
          >
            Show it
          </Button>
        </div>
        <Choice
          label="The brush"
          value={brush.selects}
          options={[
            { value: "take", text: "takes away" },
            { value: "add", text: "adds" },
          ]}
          onChange={(selects) => set({ brush: { ...brush, selects } })}
        />
        <div className="mt-1.5" />
        <BrushNumbers />
      </Section>
      <StrokeList strokes={strokesOf(veil)} onChange={onChange} />
    </>
  );
}
