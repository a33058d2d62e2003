import { useUi } from "../app/store";
import type { Drape, Recipe, Veil } from "./recipe";

/** The drape that is selected, or the one under the selected veil. */
export function useSelected(recipe: Recipe | undefined): { drape: Drape | null; veil: Veil | null } {
  const selection = useUi((s) => s.selection);
  const veil =
    selection.kind === "veil" ? (recipe?.veils.find((v) => v.name === selection.name) ?? null) : null;
  const holdout = recipe?.holdouts.find((h) => selection.kind === "holdout" && h.name === selection.name);
  const name = selection.kind === "drape" ? selection.name : (veil?.drape ?? holdout?.rides);
  const drape =
    recipe?.drapes.find((d) => d.name === name) ??
    (selection.kind === "shot" ? (recipe?.drapes[0] ?? null) : null);
  return { drape, veil };
}
