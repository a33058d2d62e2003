import { TACK_SPAN, type Tack } from "../recipe";

/** First and last frame that a tack changes: the reference is never changed (core/motion/tacks.py). */
export function tackSpan(tack: Tack, reference: number): [number, number] {
  const span = tack.span ?? TACK_SPAN;
  const first = tack.frame - span + 1;
  const last = tack.frame + span - 1;
  return tack.frame > reference
    ? [Math.max(first, reference + 1), last]
    : [first, Math.min(last, reference - 1)];
}

export interface TrackRows {
  frames: readonly number[];
  status: readonly string[];
  error_px: readonly number[];
}

const RANK: Record<string, number> = { lost: 3, occluded: 2, outside: 2, weak: 1, ok: 0 };

/** The frames that most need a look: worst status first, then by expected error, well apart. */
export function worstFrames(
  track: TrackRows,
  count: number,
): { frame: number; status: string; error: number }[] {
  const rows = track.frames.map((frame, i) => ({
    frame,
    status: track.status[i] ?? "lost",
    error: track.error_px[i] ?? 99,
  }));
  const bad = rows
    .filter((r) => (RANK[r.status] ?? 3) > 0)
    .sort((a, b) => (RANK[b.status] ?? 3) - (RANK[a.status] ?? 3) || b.error - a.error);
  const chosen: typeof bad = [];
  for (const r of bad) {
    if (chosen.length === count) break;
    if (chosen.every((c) => Math.abs(c.frame - r.frame) >= 4)) chosen.push(r);
  }
  return chosen.sort((a, b) => a.frame - b.frame);
}

/** The frame with the largest of some values; null where none has one. */
export function worstOf(
  frames: readonly number[],
  values: readonly (number | null)[],
): { frame: number; px: number } | null {
  let worst: { frame: number; px: number } | null = null;
  values.forEach((px, i) => {
    if (px !== null && (worst === null || px > worst.px)) worst = { frame: frames[i]!, px };
  });
  return worst;
}

/** Whether a surface is known well enough on a frame of this status for something to be laid on it. */
export const isSeen = (status: string | undefined): boolean => status === "ok" || status === "weak";

/** Whether a surface is hidden or not found on a frame of this status: out of the picture is neither. */
export const isLost = (status: string | undefined): boolean => status === "lost" || status === "occluded";

/** From where to where a surface was followed; all frames of the shot where it was not. */
export function followedSpan(
  track: TrackRows | null | undefined,
  shot: { in_frame: number; out_frame: number },
): { first: number; last: number } {
  const first = track?.frames[0] ?? shot.in_frame;
  return { first, last: track?.frames[track.frames.length - 1] ?? shot.out_frame };
}

/** The first and last frame of the longest stretch on which a surface is not seen; null where there is none. */
export function longestLost(track: Pick<TrackRows, "frames" | "status">): [number, number] | null {
  let best: [number, number] | null = null;
  let begun: number | null = null;
  track.frames.forEach((frame, i) => {
    if (!isLost(track.status[i])) begun = null;
    else {
      begun ??= frame;
      if (best === null || frame - begun > best[1] - best[0]) best = [begun, frame];
    }
  });
  return best;
}
