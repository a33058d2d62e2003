import { describe, expect, it } from "vitest";
import type { Outline } from "../features/recipe";
import { alike, shapeOn } from "./keyedShape";

const square = (x: number): Outline => ({
  points: [
    [x, 0],
    [x + 4, 0],
    [x + 4, 4],
    [x, 4],
  ],
  corners: [false, false, false, false],
});

describe("shapeOn", () => {
  const keys = [
    [20, square(10)],
    [10, square(0)],
  ] as const;
  it("holds at both ends and goes straight in between", () => {
    expect(shapeOn(keys, 3).points[0]).toEqual([0, 0]);
    expect(shapeOn(keys, 15).points[0]).toEqual([5, 0]);
    expect(shapeOn(keys, 20).points[0]).toEqual([10, 0]);
    expect(shapeOn(keys, 99).points[0]).toEqual([10, 0]);
  });
});

describe("alike", () => {
  const moved: Outline = { ...square(0), points: square(2).points };
  it("leaves other keys where only this frame is edited", () => {
    expect(alike(square(0), moved, square(10), false)).toEqual(square(10));
  });
  it("moves them by as much where all frames are edited", () => {
    expect(alike(square(0), moved, square(10), true).points).toEqual(square(12).points);
  });
  it("gives and takes a point at the same place", () => {
    const more: Outline = {
      points: [[0, 0], [2, -1], ...square(0).points.slice(1)],
      corners: [false, false, false, false, false],
    };
    expect(alike(square(0), more, square(10), false).points[1]).toEqual([12, 0]);
    const fewer: Outline = { points: square(0).points.slice(1), corners: [false, false, false] };
    expect(alike(square(0), fewer, square(10), false).points).toEqual(square(10).points.slice(1));
  });
});
