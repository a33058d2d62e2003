import type { Schema } from "../api/client";
import type { Recipe } from "../features/recipe";
import type { Stage } from "./store";

export type Mark = "nothing" | "work" | "ready" | "look";

export interface Facts {
  recipe: Recipe | undefined;
  state: Schema["State"] | undefined;
  proof: "pass" | "caution" | "fail" | null;
  revision: number;
  deliveries: readonly { revision: number; state: string }[];
}

/** How far each stage of a shot is. */
export function stageMarks({ recipe, state, proof, revision, deliveries }: Facts): Record<Stage, Mark> {
  const drapes = recipe?.drapes ?? [];
  const veils = recipe?.veils ?? [];
  const followed = drapes.filter((d) => (state?.followed[d.name] ?? 0) > 1).length;
  const ready = veils.filter((v) => state?.veils[v.name]?.ready).length;
  const some = (total: number, done: number): Mark =>
    total === 0 ? "nothing" : done === total ? "ready" : "work";
  const delivered = deliveries.filter((d) => d.state === "done");
  return {
    shot: "ready",
    drape: some(drapes.length, followed),
    veil: some(veils.length, ready),
    proof: proof === null ? "nothing" : proof === "pass" ? "ready" : "look",
    delivery:
      delivered.length === 0 ? "nothing" : delivered.some((d) => d.revision === revision) ? "ready" : "work",
  };
}
