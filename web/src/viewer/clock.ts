/** Moves the playhead at a true rate, and waits where a picture is not at hand yet. No React in here. */
export interface Range {
  first: number;
  last: number;
}

/** The frame after `steps` steps from `frame`, looped within the range, or held at its end. */
export function advanced(frame: number, steps: number, range: Range, loop: boolean): number {
  const length = range.last - range.first + 1;
  const next = frame + steps;
  if (next >= range.first && next <= range.last) return next;
  if (!loop) return Math.min(range.last, Math.max(range.first, next));
  return range.first + ((((next - range.first) % length) + length) % length);
}

/** Frames per second at a frame: the clip's rate, or one over the time the frame really stands where that varies. */
export function rateAt(
  frame: number,
  first: number,
  rate: number,
  seconds: readonly number[] | null,
): number {
  const k = frame - first;
  const here = seconds?.[k];
  const next = seconds?.[k + 1];
  return here !== undefined && next !== undefined && next > here ? 1 / (next - here) : rate;
}

export class Clock {
  private owed = 0;
  private last: number | null = null;

  /** Whole frames that are due at `now` (ms), at `rate` frames per second and `speed` (negative: backwards). */
  due(now: number, rate: number, speed: number): number {
    if (this.last !== null) this.owed += ((now - this.last) / 1000) * rate * speed;
    this.last = now;
    const steps = Math.trunc(this.owed);
    this.owed -= steps;
    return steps;
  }

  /** Give back steps that could not be shown, without letting a long wait turn into a jump. */
  wait(): void {
    this.owed = 0;
  }

  stop(): void {
    this.last = null;
    this.owed = 0;
  }
}
