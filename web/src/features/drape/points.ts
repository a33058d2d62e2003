/** Points that are followed one by one: placed, taken out, made denser, placed again. Pure. */
import { distance, pair, type FramePt } from "../../geometry/points";
import type { Pair, Placing } from "../recipe";
import { isSeen } from "./model";

type Options = Record<string, unknown>;
/** Reference px within which a click means what is there already. */
const NEAR_PX = 8;
/** A point that is expected to be off by less is held by its own picture; others carry the rest, and say a pixel or more
 * (core/followers/points). */
export const HELD_PX = 0.995;
const DENSER_PX = 40;

const at = ([x, y]: Pair): FramePt => ({ x, y }) as FramePt;
const list = (options: Options, name: string): Pair[] => (options[name] as Pair[] | undefined) ?? [];
const near = (p: FramePt) => (q: Pair) => distance(at(q), p) < NEAR_PX;
const apart = (p: FramePt) => (q: Pair) => distance(at(q), p) >= NEAR_PX;

/** The options as they are written: empty lists are left out. */
function written(options: Options, lists: Record<string, unknown[]>): Options {
  const next = { ...options, ...lists };
  for (const [name, value] of Object.entries(lists)) if (value.length === 0) delete next[name];
  return next;
}

/** A point more at `p`. */
export const withPoint = (options: Options, p: FramePt): Options =>
  written(options, {
    placed: [...list(options, "placed"), pair(p)],
    off: list(options, "off").filter(apart(p)),
  });

/** One point less: the one that was placed at `p`, or the one that was found there. */
export function withoutPoint(options: Options, p: FramePt): Options {
  const placed = list(options, "placed");
  const kept = placed.filter(apart(p));
  const off = kept.length === placed.length ? [...list(options, "off"), pair(p)] : list(options, "off");
  return written(options, { placed: kept, off });
}

/** Points closer together around `p`; or, with `away`, no longer. */
export function withDenser(options: Options, p: FramePt, away: boolean): Options {
  const denser = list(options, "denser");
  const within = denserWithin(options);
  const next = away ? denser.filter((q) => distance(at(q), p) >= within) : [...denser, pair(p)];
  return written(options, { denser: next });
}

export const denserWithin = (options: Options): number =>
  (options.denser_within as number | undefined) ?? DENSER_PX;

export const placingsOf = (options: Options): Placing[] => (options.again as Placing[] | undefined) ?? [];

/** The point at `home` (reference px) placed anew on a frame, instead of an earlier placing there. */
export function withPlacing(options: Options, frame: number, home: FramePt, to: FramePt): Options {
  const others = placingsOf(options).filter((a) => a.frame !== frame || !near(home)(a.at));
  return written(options, { again: [...others, { frame, at: pair(home), to: pair(to) }] });
}

export const withoutPlacing = (options: Options, index: number): Options =>
  written(options, { again: placingsOf(options).filter((_, i) => i !== index) });

interface Tracked {
  frames: readonly number[];
  status: readonly string[];
  vertices: number;
  points: readonly number[];
}

/** Which of a track's points are held by their own picture on a row; none where the surface is not seen. */
export function heldOn(track: Tracked, errors: Float32Array, row: number): boolean[] {
  const seen = isSeen(track.status[row]);
  return track.points.map((i) => seen && errors[row * track.vertices + i]! < HELD_PX);
}

/** The points that are held on the fewest frames, and where each is lost first, worst first; all-time holders left out. */
export function weakest(
  track: Tracked,
  errors: Float32Array,
  count: number,
): { index: number; held: number; lost: number }[] {
  const rows = track.frames.map((_, row) => heldOn(track, errors, row));
  return track.points
    .map((_, n) => {
      const here = rows.map((r) => r[n]!);
      const lost = here.indexOf(false);
      return { index: n, held: here.filter(Boolean).length, lost: lost < 0 ? -1 : track.frames[lost]! };
    })
    .filter((p) => p.lost >= 0)
    .sort((a, b) => a.held - b.held)
    .slice(0, count);
}
