import type { Schema } from "../api/client";
import { round } from "../geometry/spline";

export type Pair = [number, number];
export interface Outline {
  points: Pair[];
  corners: boolean[];
  /** At each point, how many times the veil's feather its edge is soft; absent: once, all round. */
  feathers?: number[];
}
/** A veil's feather in px of the reference, unless it says otherwise. */
export const FEATHER = 3;
export type Value = number | Schema["Keys"];

/** A correction by hand: on `frame`, the surface's point `at` (px of the reference) lies at `to`. */
export interface Tack {
  frame: number;
  at: Pair;
  to: Pair;
  reach?: number;
  span?: number;
}
export const TACK_REACH = 60;
export const TACK_SPAN = 12;

/** A point that was placed again: on `frame`, the surface's point `at` (px of the reference) lies at `to`. */
export interface Placing {
  frame: number;
  at: Pair;
  to: Pair;
}

/** Which vertices a mesh has: what its bending needs, and places with one more or one less. */
export interface Vertices {
  adapted?: boolean;
  added?: Pair[];
  removed?: Pair[];
}

export interface Drape {
  name: string;
  reference_frames: number[];
  outline: Record<string, unknown>;
  follower?: { kind?: string; options?: Record<string, unknown> };
  tacks?: Tack[];
  vertices?: Vertices;
  /** First and last frame of spans where the surface is not known. */
  forgotten?: [number, number][];
  /** Spans that are carried across from one end to the other. */
  crossed?: [number, number][];
  /** It is not followed anew, and its following can't be changed. */
  locked?: boolean;
}
export interface Veil {
  name: string;
  kind: string;
  /** Null: it rests on the picture itself. */
  drape?: string | null;
  frame: number;
  /** Absent: the whole picture. */
  outline?: unknown;
  /** Corrections of the outline on other frames. */
  shapes?: Record<string, unknown>;
  feather?: Value;
  feather_in?: Value;
  grow?: Value;
  opacity?: Value;
  enabled?: boolean;
  /** False: laid over what passes in front, too. */
  behind?: boolean;
  range?: [number, number] | null;
  come_in?: number;
  go_out?: number;
  params?: Record<string, unknown>;
}
/** Something that passes in front: not followed, and free of veils. */
export interface Holdout {
  name: string;
  /** Frame to outline. */
  shapes: Record<string, unknown>;
  rides?: string | null;
  before?: string[] | null;
  feather?: number;
  range?: [number, number] | null;
  enabled?: boolean;
}
export interface Recipe {
  format?: "gentle-veil-recipe";
  version?: 1;
  drapes: Drape[];
  veils: Veil[];
  holdouts: Holdout[];
}

/** The recipe of a reply, with its lists in place. */
export function asRecipe(written: unknown): Recipe {
  const recipe = written as Partial<Recipe>;
  return {
    ...recipe,
    drapes: recipe.drapes ?? [],
    veils: recipe.veils ?? [],
    holdouts: recipe.holdouts ?? [],
  };
}

/** An outline as it is written: bare points, or points with corners and feathers. */
export function readOutline(written: unknown): Outline {
  const value = written as
    Pair[] | { points: Pair[]; corners?: boolean[] | null; feathers?: number[] | null };
  const points = Array.isArray(value) ? value : value.points;
  const corners = Array.isArray(value) ? [] : (value.corners ?? []);
  const feathers = Array.isArray(value) ? null : value.feathers;
  return { points, corners: points.map((_, i) => corners[i] ?? false), ...(feathers ? { feathers } : {}) };
}

export const hasOutline = (veil: Veil): boolean => veil.outline !== undefined && veil.outline !== null;

export function writeOutline(outline: Outline): unknown {
  const points = outline.points.map(([x, y]) => [round(x), round(y)]);
  const varied = outline.feathers?.some((f) => f !== 1);
  if (!varied && !outline.corners.some(Boolean)) return points;
  return {
    points,
    ...(outline.corners.some(Boolean) ? { corners: outline.corners } : {}),
    ...(varied ? { feathers: outline.feathers!.map(round) } : {}),
  };
}

export const referenceOf = (drape: Drape): number => drape.reference_frames[0]!;
export const drapeOutline = (drape: Drape): Outline => readOutline(drape.outline[String(referenceOf(drape))]);

export function withDrape(recipe: Recipe, name: string, change: (d: Drape) => Drape): Recipe {
  return { ...recipe, drapes: recipe.drapes.map((d) => (d.name === name ? change(d) : d)) };
}

export function withVeil(recipe: Recipe, name: string, change: (v: Veil) => Veil): Recipe {
  return { ...recipe, veils: recipe.veils.map((v) => (v.name === name ? change(v) : v)) };
}

export function withHoldout(recipe: Recipe, name: string, change: (h: Holdout) => Holdout): Recipe {
  return { ...recipe, holdouts: recipe.holdouts.map((h) => (h.name === name ? change(h) : h)) };
}

/** `spot 2` when `spot` and `spot 1` are taken. */
export function freeName(stem: string, taken: readonly string[]): string {
  for (let i = 1; ; i++) {
    const name = `${stem} ${i}`;
    if (!taken.includes(name)) return name;
  }
}

/** Rename a drape everywhere it is spoken of. */
export function renameDrape(recipe: Recipe, from: string, to: string): Recipe {
  return {
    ...recipe,
    drapes: recipe.drapes.map((d) => (d.name === from ? { ...d, name: to } : d)),
    veils: recipe.veils.map((v) => (v.drape === from ? { ...v, drape: to } : v)),
    holdouts: recipe.holdouts.map((h) => ({
      ...h,
      rides: h.rides === from ? to : h.rides,
      before: h.before?.map((n) => (n === from ? to : n)) ?? null,
    })),
  };
}

export function withoutDrape(recipe: Recipe, name: string): Recipe {
  return {
    ...recipe,
    drapes: recipe.drapes.filter((d) => d.name !== name),
    veils: recipe.veils.filter((v) => v.drape !== name),
    holdouts: recipe.holdouts
      .filter((h) => h.rides !== name)
      .map((h) => ({ ...h, before: h.before?.filter((n) => n !== name) ?? null })),
  };
}

/** The value on a frame, as the core reads keys: held before the first and after the last. */
export function valueAt(value: Value, frame: number): number {
  if (typeof value === "number") return value;
  const keys = Object.entries(value.keys)
    .map(([f, v]): [number, number] => [Number(f), v])
    .sort((a, b) => a[0] - b[0]);
  const i = keys.findIndex(([f]) => f > frame);
  if (i === 0) return keys[0]![1];
  if (i < 0) return keys[keys.length - 1]![1];
  const [f0, v0] = keys[i - 1]!;
  const [f1, v1] = keys[i]!;
  if (value.ease === "hold") return v0;
  const t = (frame - f0) / (f1 - f0);
  return v0 + (value.ease === "smooth" ? t * t * (3 - 2 * t) : t) * (v1 - v0);
}

/** A value with a key set on a frame; a constant becomes keyed. */
export function withKey(value: Value, frame: number, to: number): Value {
  if (typeof value === "number") return { keys: { [frame]: to }, ease: "linear" };
  return { ...value, keys: { ...value.keys, [frame]: to } };
}

/** A value without its key on a frame; without any, it is constant again. */
export function withoutKey(value: Value, frame: number): Value {
  if (typeof value === "number") return value;
  const keys = Object.fromEntries(Object.entries(value.keys).filter(([f]) => Number(f) !== frame));
  return Object.keys(keys).length > 0 ? { ...value, keys } : valueAt(value, frame);
}

/** A veil moved in the order of laying, to just before (or, at the end, after) another. */
export function reordered(recipe: Recipe, name: string, to: number): Recipe {
  const moved = recipe.veils.find((v) => v.name === name);
  if (!moved) return recipe;
  const rest = recipe.veils.filter((v) => v.name !== name);
  const at = Math.min(Math.max(to, 0), rest.length);
  return { ...recipe, veils: [...rest.slice(0, at), moved, ...rest.slice(at)] };
}

export function plainNumber(value: Value | undefined, otherwise: number): number {
  if (value === undefined) return otherwise;
  return typeof value === "number" ? value : (Object.values(value.keys)[0] ?? otherwise);
}

/** A drape and a conceal veil around a circle: what "Take a spot off" makes. The drape is loose around the mark. */
export function spotRecipe(
  recipe: Recipe,
  frame: number,
  mark: Pair[],
  loose: Pair[],
): { recipe: Recipe; drape: string; veil: string } {
  const drape = freeName(
    "skin",
    recipe.drapes.map((d) => d.name),
  );
  const veil = freeName(
    "spot",
    recipe.veils.map((v) => v.name),
  );
  return {
    drape,
    veil,
    recipe: {
      ...recipe,
      drapes: [...recipe.drapes, { name: drape, reference_frames: [frame], outline: { [frame]: loose } }],
      veils: [...recipe.veils, { name: veil, kind: "conceal", drape, frame, outline: mark }],
    },
  };
}
