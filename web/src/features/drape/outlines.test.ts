import { describe, expect, it } from "vitest";
import type { Drape, Outline } from "../recipe";
import { asFollowed, drawnOn, withOutline, withReferences } from "./outlines";

const square = (x: number): [number, number][] => [
  [x, 0],
  [x + 4, 0],
  [x + 4, 4],
  [x, 4],
];
const outline = (points: [number, number][]): Outline => ({ points, corners: points.map(() => false) });
const drape: Drape = {
  name: "skin",
  reference_frames: [10, 50],
  outline: { 10: square(0), 50: square(100) },
  tacks: [{ frame: 30, at: [1, 1], to: [2, 2] }],
};

describe("the outline on several references", () => {
  it("is dragged on one, and left on the others", () => {
    const moved = withOutline(drape, 50, outline(square(100)), outline(square(120)));
    expect(moved.outline).toEqual({ 10: square(0), 50: square(120) });
  });
  it("gets a point on all", () => {
    const more = outline([[0, 0], [2, -1], ...square(0).slice(1)]);
    const changed = withOutline(drape, 10, outline(square(0)), more);
    expect(drawnOn(changed, 10)?.points).toHaveLength(5);
    expect(drawnOn(changed, 50)?.points[1]).toEqual([102, 0]);
  });
  it("goes with a reference that is taken out, and a tack with one that is added", () => {
    expect(withReferences(drape, [10]).outline).toEqual({ 10: square(0) });
    const added = withReferences(drape, [10, 50, 30], { 30: square(50) });
    expect(Object.keys(added.outline)).toEqual(["10", "30", "50"]);
    expect(added.tacks).toEqual([]);
    expect(drawnOn(asFollowed(added, 30), 30)).toBeNull();
  });
});
