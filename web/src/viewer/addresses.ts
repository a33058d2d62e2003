import type { Look } from "../app/store";

/** Everything that says which pictures a view shows. `token` changes whenever the result does. */
export interface Scene {
  shot: number;
  revision: number;
  token: string | null;
  /** No veil is laid: the result is the original. */
  empty: boolean;
  /** The only veil that is laid, or null for all of them. */
  solo: string | null;
}

/** The ways to see a matte: alone, over the result, as a line. */
export const MATTE_LOOKS = ["matte", "tint", "edge"] as const;
export type MatteLook = (typeof MATTE_LOOKS)[number];

export const matteLook = (look: Look): MatteLook | null => MATTE_LOOKS.find((l) => l === look) ?? null;

type Layer = "original" | "result" | "tracked" | MatteLook;

/** The layers a look needs, bottom first. */
export function layersOf(look: Look): Layer[] {
  if (look === "wipe" || look === "difference") return ["original", "result"];
  return [look];
}

function query(scene: Scene, layer: Layer, veil: string | undefined, gain: number): string {
  if (layer === "original") return "";
  if (layer === "tracked") return `?look=tracked&gain=${gain}`;
  const name = veil ? `&veil=${encodeURIComponent(veil)}` : "";
  return `?look=${layer}&revision=${scene.revision}&token=${scene.token}${name}${only(scene)}`;
}

const only = (scene: Scene): string => (scene.solo ? `&only=${encodeURIComponent(scene.solo)}` : "");

/** Null while the result cannot be shown yet. */
export function frameAddress(
  scene: Scene,
  frame: number,
  layer: Layer,
  form: "jpg" | "png",
  veil?: string,
  gain = 1,
): string | null {
  if (layer === "result" && scene.empty) return frameAddress(scene, frame, "original", form);
  if (layer !== "original" && layer !== "tracked" && scene.token === null) return null;
  return `/api/shots/${scene.shot}/frames/${frame}.${form}${query(scene, layer, veil, gain)}`;
}

export function flatAddress(
  scene: Scene,
  drape: string,
  track: string,
  frame: number,
  layer: "original" | "result" | "tracked" | "residual" | "apart",
  form: "jpg" | "png",
  gain = 1,
  other: string | null = null,
): string | null {
  const shown = layer === "result" && (scene.empty || scene.token === null) ? "original" : layer;
  const base = `/api/shots/${scene.shot}/drapes/${encodeURIComponent(drape)}/flat/${frame}.${form}`;
  if (layer === "apart" && other !== null)
    return `${base}?look=apart&gain=${gain}&revision=${scene.revision}&token=${track}&other=${encodeURIComponent(other)}`;
  if (layer === "tracked" || layer === "residual" || layer === "apart")
    return `${base}?look=${layer === "apart" ? "tracked" : layer}&gain=${gain}&revision=${scene.revision}&token=${track}`;
  return `${base}?look=${shown}&revision=${scene.revision}&token=${scene.token}-${track}${only(scene)}`;
}
