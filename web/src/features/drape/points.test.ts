import { describe, expect, it } from "vitest";
import type { FramePt } from "../../geometry/points";
import { heldOn, weakest, withDenser, withoutPlacing, withoutPoint, withPlacing, withPoint } from "./points";

const p = (x: number, y: number) => ({ x, y }) as FramePt;

describe("points of a drape", () => {
  it("are placed, and taken out again as if they had never been", () => {
    const one = withPoint({ density: 12 }, p(10, 20));
    expect(one).toEqual({ density: 12, placed: [[10, 20]] });
    expect(withoutPoint(one, p(12, 20))).toEqual({ density: 12 });
  });
  it("that were found are switched off, and come back where one is placed", () => {
    const off = withoutPoint({}, p(50, 50));
    expect(off).toEqual({ off: [[50, 50]] });
    expect(withPoint(off, p(51, 50))).toEqual({ placed: [[51, 50]] });
  });
  it("lie denser around a place until that is taken back", () => {
    const denser = withDenser({}, p(100, 100), false);
    expect(denser).toEqual({ denser: [[100, 100]] });
    expect(withDenser(denser, p(130, 100), true)).toEqual({});
    expect(withDenser(denser, p(150, 100), true)).toEqual(denser);
  });
  it("are placed again once a frame each", () => {
    const first = withPlacing({}, 12, p(10, 20), p(30, 40));
    const again = withPlacing(first, 12, p(11, 20), p(31, 41));
    expect(again).toEqual({ again: [{ frame: 12, at: [11, 20], to: [31, 41] }] });
    const later = withPlacing(again, 14, p(11, 20), p(33, 42));
    expect(later.again).toHaveLength(2);
    expect(withoutPlacing(later, 0)).toEqual({ again: [{ frame: 14, at: [11, 20], to: [33, 42] }] });
  });
  it("tell on how many frames each is held by its own picture", () => {
    const track = { frames: [5, 6, 7], status: ["ok", "weak", "lost"], vertices: 3, points: [0, 1] };
    const errors = new Float32Array([0.1, 0.1, 9, 0.1, 1, 9, 0.1, 0.1, 9]);
    expect(heldOn(track, errors, 1)).toEqual([true, false]);
    expect(heldOn(track, errors, 2)).toEqual([false, false]);
    expect(weakest(track, errors, 5)).toEqual([
      { index: 1, held: 1, lost: 6 },
      { index: 0, held: 2, lost: 7 },
    ]);
  });
});
