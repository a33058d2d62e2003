import { describe, expect, it } from "vitest";
import { identity, inverse, mapPoint, multiply } from "./homography";
import { centreOf } from "./points";
import { circleOutline, contains, outlineCurve } from "./spline";
import { fitted, panned, toFrame, toScreen, zoomedAt } from "./viewport";

const tilt = [1.05, 0.02, 4, -0.03, 0.98, -2, 1e-4, 5e-5, 1];

describe("viewport", () => {
  const view = fitted(960, 540, 600, 500);

  it("takes points to the screen and back", () => {
    const p = { x: 123.4, y: 56.7 };
    const back = toFrame(view, toScreen(view, p));
    expect(back.x).toBeCloseTo(p.x);
    expect(back.y).toBeCloseTo(p.y);
  });

  it("puts the centre of the top-left pixel half a pixel inside the picture", () => {
    const at = toScreen({ scale: 10, left: 100, top: 50 }, { x: 0, y: 0 });
    expect(at).toEqual({ x: 105, y: 55 });
  });

  it("fits the whole picture with room around it", () => {
    expect(view.left).toBeGreaterThan(0);
    expect(view.left + 960 * view.scale).toBeLessThan(600);
  });

  it("keeps the point under the pointer while zooming, within bounds", () => {
    const at = { x: 200, y: 120 };
    const before = toFrame(view, at);
    const after = toFrame(zoomedAt(view, at, 2.5), at);
    expect(after.x).toBeCloseTo(before.x);
    expect(zoomedAt(view, at, 1e9).scale).toBe(64);
    expect(panned(view, 5, -3).left).toBe(view.left + 5);
  });
});

describe("homography", () => {
  it("is undone by its inverse", () => {
    const p = mapPoint(inverse(tilt), mapPoint(tilt, { x: 30, y: 70 }));
    expect(p.x).toBeCloseTo(30);
    expect(p.y).toBeCloseTo(70);
  });

  it("composes from right to left", () => {
    const shift = [1, 0, 10, 0, 1, -5, 0, 0, 1];
    const p = { x: 8, y: 9 };
    const once = mapPoint(multiply(tilt, shift), p);
    const twice = mapPoint(tilt, mapPoint(shift, p));
    expect(once.x).toBeCloseTo(twice.x);
    expect(mapPoint(identity, p)).toEqual(p);
  });
});

describe("outline curve", () => {
  const square = [
    { x: 0, y: 0 },
    { x: 10, y: 0 },
    { x: 10, y: 10 },
    { x: 0, y: 10 },
  ];

  it("passes through every point", () => {
    const curve = outlineCurve(square);
    for (const p of square) expect(curve.some((q) => Math.hypot(q.x - p.x, q.y - p.y) < 1e-9)).toBe(true);
  });

  it("is the polygon itself when all points are corners", () => {
    expect(outlineCurve(square, [true, true, true, true])).toEqual(square);
  });

  it("agrees with the core's spline on a known sample", () => {
    // core.geometry.outline.outline_polygon of the square, all smooth: sample 6 of the first span.
    const curve = outlineCurve(square);
    expect(curve[6]!.x).toBeCloseTo(5, 6);
    expect(curve[6]!.y).toBeCloseTo(-1.25, 6);
  });

  it("tells inside from outside", () => {
    expect(contains(square, { x: 5, y: 5 })).toBe(true);
    expect(contains(square, { x: 15, y: 5 })).toBe(false);
  });

  it("draws a circle about its centre", () => {
    const circle = circleOutline({ x: 50, y: 40 }, 12).map(([x, y]) => ({ x, y }));
    expect(centreOf(circle).x).toBeCloseTo(50, 1);
    for (const p of circle) expect(Math.hypot(p.x - 50, p.y - 40)).toBeCloseTo(12, 1);
  });
});
