import { valueAt, withKey, type Pair, type Value, type Veil } from "../recipe";

/** A place that live skin is taken from: a step from the mark on the reference frame, its size and turn. */
export interface DonorPlace {
  x: Value;
  y: Value;
  size?: Value;
  turn?: Value;
}

export const donorsOf = (veil: Veil): DonorPlace[] => (veil.params?.donors as DonorPlace[] | undefined) ?? [];

const isKeyed = (value: Value): boolean => typeof value !== "number";

/** The step of a place on a frame. */
export const stepOf = (place: DonorPlace, frame: number): Pair => [
  valueAt(place.x, frame),
  valueAt(place.y, frame),
];

/** A place after it was dragged: everywhere, or once it has keys, on this frame. */
export function dragged(place: DonorPlace, frame: number, [x, y]: Pair): DonorPlace {
  if (!isKeyed(place.x) && !isKeyed(place.y)) return { ...place, x, y };
  return { ...place, x: withKey(place.x, frame, x), y: withKey(place.y, frame, y) };
}

const paramsWith = (veil: Veil, donors: DonorPlace[]): Veil["params"] => {
  const rest = { ...veil.params };
  delete rest.donors;
  return donors.length ? { ...rest, donors } : rest;
};

/** A veil with these donors; without any it has the one donor, placed or found, again. */
export const withDonors = (veil: Veil, donors: DonorPlace[]): Veil => ({
  ...veil,
  params: paramsWith(veil, donors),
});

/** One more place, on the other side of the mark from the last. */
export function withOneMore(veil: Veil, found: Pair): DonorPlace[] {
  const donors = donorsOf(veil);
  const first: DonorPlace[] = donors.length ? donors : [{ x: found[0], y: found[1] }];
  const last = first[first.length - 1]!;
  const [x, y] = stepOf(last, 0);
  return [...first, { x: -x, y: -y }];
}
