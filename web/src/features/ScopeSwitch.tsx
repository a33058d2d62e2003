import { useUi } from "../app/store";
import { Choice } from "../ui/controls";

/** Whether dragging a shape changes it on this frame, or on all of them. */
export function ScopeSwitch() {
  const scope = useUi((s) => s.shapeScope);
  const set = useUi((s) => s.set);
  return (
    <div className="flex flex-wrap items-center justify-between gap-x-2 py-0.5 whitespace-nowrap">
      <span className="text-dim">Drag on</span>
      <Choice
        label="Dragging changes"
        value={scope}
        options={[
          { value: "frame", text: "this frame" },
          { value: "all", text: "all frames" },
        ]}
        onChange={(v) => set({ shapeScope: v })}
        compact
      />
    </div>
  );
}
