import { valueAt, withKey, type Value, type Veil } from "../recipe";

const CORNERS = ["top_left", "top_right", "bottom_right", "bottom_left"];
/** What places artwork, and its value where it is not set. */
export const PLACE: Record<string, number> = {
  across: 0,
  down: 0,
  size: 1,
  stretch: 1,
  turn: 0,
  ...Object.fromEntries(CORNERS.flatMap((c) => [`${c}_x`, `${c}_y`]).map((name) => [name, 0])),
};

type Params = Record<string, unknown>;
const valueOf = (params: Params, name: string): Value => (params[name] as Value | undefined) ?? PLACE[name]!;

/** Whether the artwork has its own placement on a frame: every value of it is keyed there. */
export function hasOwn(veil: Veil, frame: number): boolean {
  return Object.keys(PLACE).every((name) => {
    const value = valueOf(veil.params ?? {}, name);
    return typeof value !== "number" && value.keys[String(frame)] !== undefined;
  });
}

/** Every reference frame with its own placement, as it stands there now. */
export function withOwn(veil: Veil, references: readonly number[]): Params {
  const params = { ...veil.params };
  for (const name of Object.keys(PLACE)) {
    const given = valueOf(params, name);
    params[name] = references.reduce<Value>((v, frame) => withKey(v, frame, valueAt(given, frame)), given);
  }
  return params;
}

/** One placement on all frames: that of the given one. */
export function withOne(veil: Veil, frame: number): Params {
  const params = { ...veil.params };
  for (const [name, standard] of Object.entries(PLACE)) {
    const value = valueAt(valueOf(params, name), frame);
    if (value === standard) delete params[name];
    else params[name] = value;
  }
  return params;
}
