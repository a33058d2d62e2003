export interface Judged {
  frame: number;
  verdict: "pass" | "caution" | "fail";
}

const RANK = { pass: 0, caution: 1, fail: 2 } as const;

/** The frames to look at: fails before cautions, in order of time, well apart. */
export function lookAt<F extends Judged>(frames: readonly F[], count: number): F[] {
  const chosen: F[] = [];
  for (const verdict of ["fail", "caution"] as const)
    for (const f of frames)
      if (
        RANK[f.verdict] === RANK[verdict] &&
        chosen.length < count &&
        chosen.every((c) => Math.abs(c.frame - f.frame) >= 3)
      )
        chosen.push(f);
  return chosen.sort((a, b) => a.frame - b.frame);
}
