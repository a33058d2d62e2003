import type { Veil } from "../recipe";

/** A plate that was brought in for a frame. */
export interface Plate {
  frame: number;
  plate: string;
}

/** A veil's plates by frame: that of the drape's reference, and those of other frames. */
export function platesOf(veil: Veil, reference: number): Plate[] {
  const main = String(veil.params?.plate ?? "");
  const others = (veil.params?.plates as Plate[] | undefined) ?? [];
  return [...(main ? [{ frame: reference, plate: main }] : []), ...others].sort((a, b) => a.frame - b.frame);
}

/** The veil's parameters with another plate for a frame; an empty name leaves it without one. */
export function withPlate(veil: Veil, { frame, plate }: Plate, reference: number): Record<string, unknown> {
  if (frame === reference) return { ...veil.params, plate };
  const { plates: before = [], ...rest } = (veil.params ?? {}) as { plates?: Plate[] };
  const others = before.filter((p) => p.frame !== frame);
  const plates = plate ? [...others, { frame, plate }].sort((a, b) => a.frame - b.frame) : others;
  return plates.length ? { ...rest, plates } : rest;
}
