import { useUi } from "../../app/store";
import { Button, Section, Switch } from "../../ui/controls";
import type { Veil } from "../recipe";
import { hasOwn, withOne, withOwn } from "./placements";

/** Where artwork lies on each of several reference frames; between two of them its placement goes over. */
export function PlacementsSection({
  veil,
  references,
  onChange,
}: {
  veil: Veil;
  references: readonly number[];
  onChange: (params: Veil["params"], label: string) => void;
}) {
  const frame = useUi((s) => s.frame);
  const set = useUi((s) => s.set);
  const all = [...references].sort((a, b) => a - b);
  const own = all.every((f) => hasOwn(veil, f));
  return (
    <Section title="Placement per reference">
      <Switch
        label="Each its own"
        help="The artwork is placed anew on every reference frame; between two of them its placement goes over."
        checked={own}
        onChange={(on) =>
          onChange(
            on ? withOwn(veil, all) : withOne(veil, all.includes(frame) ? frame : references[0]!),
            "Placement",
          )
        }
      />
      {own && (
        <>
          <div className="flex flex-wrap gap-1.5 py-0.5">
            {all.map((f) => (
              <Button key={f} pressed={f === frame} onClick={() => set({ frame: f, playing: 0 })}>
                on <span className="num">{f}</span>
              </Button>
            ))}
          </div>
          <p className="text-dim">
            {all.includes(frame)
              ? `Dragging places it for reference ${frame}.`
              : "Between references: dragging here sets a placement for this frame."}
          </p>
        </>
      )}
    </Section>
  );
}
