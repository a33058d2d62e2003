import { describe, expect, it } from "vitest";
import { artToReference, squareTo, type ArtPlace } from "./artPlacement";
import { mapPoint } from "./homography";

const square = [
  { x: 60, y: 40 },
  { x: 140, y: 40 },
  { x: 140, y: 100 },
  { x: 60, y: 100 },
];
const none = { x: 0, y: 0 };
const plain: ArtPlace = {
  across: 0,
  down: 0,
  size: 1,
  stretch: 1,
  turn: 0,
  corners: [none, none, none, none],
  bend: [],
};
const art = { width: 80, height: 60 };

// The same cases as the core's test of `artwork_on_reference`: both sides must place artwork alike.
describe("where artwork lies", () => {
  it("fits into the outline", () => {
    const at = artToReference(plain, art, square);
    expect(at(0.5, 0.5)).toEqual({ x: 100, y: 70 });
    expect(at(0, 0)).toEqual({ x: 60, y: 40 });
  });
  it("is moved, sized and turned clockwise", () => {
    const at = artToReference({ ...plain, across: 5, down: -3, size: 2, turn: 90 }, art, square);
    const p = at(0.5 + 10 / 80, 0.5);
    expect(p.x).toBeCloseTo(105, 9);
    expect(p.y).toBeCloseTo(87, 9);
  });
  it("takes a corner along and leaves the others", () => {
    const at = artToReference({ ...plain, corners: [{ x: -7, y: 4 }, none, none, none] }, art, square);
    expect(at(0, 0).x).toBeCloseTo(53, 9);
    expect(at(0, 0).y).toBeCloseTo(44, 9);
    expect(at(1, 1).x).toBeCloseTo(140, 9);
  });
  it("maps the square's corners to any four points", () => {
    const quad = [
      { x: 3, y: 4 },
      { x: 17, y: 2 },
      { x: 20, y: 30 },
      { x: 1, y: 22 },
    ];
    const m = squareTo(quad);
    [
      [0, 0],
      [1, 0],
      [1, 1],
      [0, 1],
    ].forEach(([x, y], i) => {
      const p = mapPoint(m, { x: x!, y: y! });
      expect(p.x).toBeCloseTo(quad[i]!.x, 9);
      expect(p.y).toBeCloseTo(quad[i]!.y, 9);
    });
  });
});
