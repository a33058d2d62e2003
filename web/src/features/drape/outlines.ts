/** The outline of a drape on its reference frames: the main one, and where it was drawn on others. */
import { alike } from "../../geometry/keyedShape";
import { readOutline, writeOutline, type Drape, type Outline } from "../recipe";

/** The outline as it was drawn on a frame; null where it was not. */
export function drawnOn(drape: Drape, frame: number): Outline | null {
  const written = drape.outline[String(frame)];
  return written === undefined ? null : readOutline(written);
}

/** The outlines as they are written, on those frames that are kept. */
const outlinesOn = (drape: Drape, kept: (frame: number) => boolean): Record<string, unknown> =>
  Object.fromEntries(Object.entries(drape.outline).filter(([f]) => kept(Number(f))));

/** The drape with its outline changed on a reference; on the others points come and go at the same places. */
export function withOutline(drape: Drape, frame: number, before: Outline, after: Outline): Drape {
  const others = Object.entries(outlinesOn(drape, (f) => f !== frame));
  return {
    ...drape,
    outline: {
      ...Object.fromEntries(
        others.map(([f, o]) => [f, writeOutline(alike(before, after, readOutline(o), false))]),
      ),
      [frame]: writeOutline(after),
    },
  };
}

/** The drape with other references; outlines and tacks that this leaves without a meaning go. */
export function withReferences(drape: Drape, frames: number[], seeded: Record<string, unknown> = {}): Drape {
  return {
    ...drape,
    reference_frames: frames,
    tacks: drape.tacks?.filter((t) => !frames.includes(t.frame)),
    outline: { ...outlinesOn(drape, (f) => frames.includes(f)), ...seeded },
  };
}

/** The drape with its outline on one of the other references where the surface itself is found. */
export function asFollowed(drape: Drape, frame: number): Drape {
  return { ...drape, outline: outlinesOn(drape, (f) => f !== frame) };
}
