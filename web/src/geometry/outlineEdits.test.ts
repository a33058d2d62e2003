import { describe, expect, it } from "vitest";
import type { Outline } from "../features/recipe";
import {
  addPoint,
  featherCurve,
  grownBy,
  gripAt,
  moveAll,
  movePoint,
  removePoint,
  scaledOutline,
  setFeather,
  toggleCorner,
} from "./outlineEdits";

const square: Outline = {
  points: [
    [0, 0],
    [100, 0],
    [100, 100],
    [0, 100],
  ],
  corners: [true, true, true, true],
};

describe("what lies under the pointer", () => {
  it("is the nearest point within reach, before the line", () => {
    expect(gripAt(square, { x: 3, y: 2 }, 6)).toEqual({ kind: "point", index: 0 });
  });
  it("is the line between two points, named by the first", () => {
    expect(gripAt(square, { x: 50, y: 2 }, 6)).toEqual({ kind: "edge", index: 0 });
    expect(gripAt(square, { x: 1, y: 50 }, 6)).toEqual({ kind: "edge", index: 3 });
  });
  it("is the inside, or nothing", () => {
    expect(gripAt(square, { x: 50, y: 50 }, 6)).toEqual({ kind: "inside" });
    expect(gripAt(square, { x: 150, y: 50 }, 6)).toBeNull();
  });
});

describe("editing", () => {
  it("moves one point or all, without touching the original", () => {
    expect(movePoint(square, 1, { x: 90, y: 5 }).points[1]).toEqual([90, 5]);
    expect(moveAll(square, 10, -5).points[2]).toEqual([110, 95]);
    expect(square.points[1]).toEqual([100, 0]);
  });
  it("adds a smooth point after another", () => {
    const added = addPoint(square, 0, { x: 50, y: 0 });
    expect(added.points).toHaveLength(5);
    expect(added.points[1]).toEqual([50, 0]);
    expect(added.corners).toEqual([true, false, true, true, true]);
  });
  it("removes points down to three and no further", () => {
    const three = removePoint(square, 0);
    expect(three.points).toHaveLength(3);
    expect(removePoint(three, 0)).toBe(three);
  });
  it("turns a point from corner to smooth and back", () => {
    expect(toggleCorner(toggleCorner(square, 2), 2)).toEqual(square);
    expect(toggleCorner(square, 2).corners[2]).toBe(false);
  });
  it("grows about its centre", () => {
    expect(scaledOutline(square, 2).points[0]).toEqual([-50, -50]);
  });
});

describe("feathers", () => {
  it("are once all round until one is set, and stay with their points", () => {
    const soft = setFeather(square, 1, 3);
    expect(soft.feathers).toEqual([1, 3, 1, 1]);
    expect(addPoint(soft, 0, { x: 50, y: 0 }).feathers).toEqual([1, 2, 3, 1, 1]);
    expect(removePoint(soft, 0).feathers).toEqual([3, 1, 1]);
    expect(setFeather(soft, 1, -2).feathers).toEqual([1, 0, 1, 1]);
    expect(square.feathers).toBeUndefined();
  });
  it("end outside the outline, whichever way round it runs", () => {
    const round: Outline = { ...square, corners: [false, false, false, false] };
    const back: Outline = { ...round, points: [...round.points].reverse() };
    for (const outline of [round, back])
      for (const p of featherCurve(outline, 10))
        expect(Math.max(Math.abs(p.x - 50), Math.abs(p.y - 50))).toBeGreaterThan(55);
  });
  it("reach further at a point that is softer", () => {
    const soft = setFeather({ ...square, corners: [false, false, false, false] }, 0, 4);
    const [first] = featherCurve(soft, 10);
    expect(Math.hypot(first!.x, first!.y)).toBeCloseTo(40, 0);
  });
  it("grow with the shape they are drawn around", () => {
    expect(grownBy(square.points, scaledOutline(square, 2.5).points)).toBeCloseTo(2.5);
  });
});
