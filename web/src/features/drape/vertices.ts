import type { Drape, Pair, Vertices } from "../recipe";

export const verticesOf = (drape: Drape): Required<Vertices> => ({
  adapted: drape.vertices?.adapted ?? false,
  added: drape.vertices?.added ?? [],
  removed: drape.vertices?.removed ?? [],
});

export const changed = (v: Vertices): boolean => !!v.adapted || !!v.added?.length || !!v.removed?.length;

const apart = (a: Pair, b: Pair): number => Math.hypot(a[0] - b[0], a[1] - b[1]);

/** A vertex more at a place of the reference; one that was taken away there is back instead. */
export function vertexAdded(given: Required<Vertices>, at: Pair, near: number): Required<Vertices> {
  const back = given.removed.filter((p) => apart(p, at) > near);
  if (back.length < given.removed.length) return { ...given, removed: back };
  return { ...given, added: [...given.added, at] };
}

/** The vertex next to a place of the reference less; one that was added there is simply not added. */
export function vertexRemoved(given: Required<Vertices>, at: Pair, near: number): Required<Vertices> {
  const left = given.added.filter((p) => apart(p, at) > near);
  if (left.length < given.added.length) return { ...given, added: left };
  return { ...given, removed: [...given.removed, at] };
}
