import { useEffect } from "react";
import { useUi } from "../app/store";
import { advanced, Clock, type Range } from "./clock";
import { pictures } from "./pictures";

const AHEAD = 8; // decoded before they are due
const AROUND = 12;

/** Plays at the true rate while pictures are at hand, and waits for those that are not. */
export function usePlayback(
  rate: (frame: number) => number,
  range: Range,
  addresses: (frame: number) => string[],
): void {
  const playing = useUi((s) => s.playing);
  useEffect(() => {
    if (playing === 0) return;
    const clock = new Clock();
    let handle = 0;
    const ready = (frame: number) => addresses(frame).every((u) => pictures.peek(u) !== undefined);
    const step = (now: number) => {
      const { frame, loop, set } = useUi.getState();
      const direction = Math.sign(playing);
      for (let i = 1; i <= AHEAD; i++)
        for (const url of addresses(advanced(frame, i * direction, range, loop)))
          if (!pictures.peek(url)) void pictures.get(url);
      const due = clock.due(now, rate(frame), playing);
      if (due !== 0) {
        const next = advanced(frame, due, range, loop);
        if (!loop && next === frame) set({ playing: 0 });
        else if (ready(next)) set({ frame: next });
        else clock.wait();
      }
      handle = requestAnimationFrame(step);
    };
    handle = requestAnimationFrame(step);
    return () => cancelAnimationFrame(handle);
  }, [playing, rate, range.first, range.last, addresses]); // eslint-disable-line react-hooks/exhaustive-deps
}

/** While nothing plays, fetch what lies around the playhead, so that scrubbing does not wait. */
export function usePrefetch(range: Range, addresses: (frame: number) => string[]): void {
  const playing = useUi((s) => s.playing);
  const frame = useUi((s) => s.frame);
  useEffect(() => {
    if (playing !== 0) return;
    const timer = setTimeout(() => {
      const wanted: string[] = [];
      for (let i = 1; i <= AROUND; i++)
        for (const f of [frame + i, frame - i])
          if (f >= range.first && f <= range.last) wanted.push(...addresses(f));
      pictures.prefetch(wanted);
    }, 250);
    return () => clearTimeout(timer);
  }, [playing, frame, range.first, range.last, addresses]);
}
