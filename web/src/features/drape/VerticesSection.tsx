import { useUi } from "../../app/store";
import { Button, Section, Switch } from "../../ui/controls";
import type { Drape, Vertices } from "../recipe";
import { changed, verticesOf } from "./vertices";

/** How fine the mesh is: as its bending needs, and single vertices by hand. */
export function VerticesSection({
  drape,
  count,
  onChange,
}: {
  drape: Drape;
  /** How many vertices the followed mesh has. */
  count: number | undefined;
  onChange: (vertices: Vertices, label: string) => void;
}) {
  const { tool, set } = useUi();
  const vertices = verticesOf(drape);
  const { added, removed } = vertices;
  return (
    <Section title={count === undefined ? "Vertices" : `Vertices: ${count}`}>
      <Switch
        label="Only where it bends"
        help="Leaves out the vertices that the others foretell to a twentieth of a pixel on every frame."
        checked={vertices.adapted}
        onChange={(adapted) =>
          onChange({ ...vertices, adapted }, adapted ? "Fewer vertices" : "All vertices")
        }
      />
      <div className="flex flex-wrap gap-1.5">
        <Button
          pressed={tool === "vertex"}
          onClick={() =>
            set(tool === "vertex" ? { tool: "none" } : { tool: "vertex", stuck: "grid", playing: 0 })
          }
          title="On any frame: click to add a vertex, Shift and click to take the nearest one away"
        >
          {tool === "vertex" ? "Done" : "Add or take away"}
        </Button>
        <Button disabled={!changed(vertices)} onClick={() => onChange({}, "Vertices as followed")}>
          As followed
        </Button>
      </div>
      {added.length + removed.length > 0 && (
        <p className="mt-1 text-dim">
          By hand: {added.length} added, {removed.length} taken away.
        </p>
      )}
    </Section>
  );
}
