import { describe, expect, it } from "vitest";
import type { Veil } from "../features/recipe";
import type { FramePt } from "../geometry/points";
import type { SurfaceMap } from "../geometry/surfaceMap";
import { artGrips, CORNER_NAMES } from "./artGrips";

const OUTLINE: FramePt[] = [
  { x: 0, y: 0 },
  { x: 40, y: 0 },
  { x: 40, y: 40 },
  { x: 0, y: 40 },
];
const ART = { width: 20, height: 20 };
/** A view that shows the reference twice as large and ten px on. */
const LARGER: SurfaceMap = {
  there: (p) => ({ ...p, x: 2 * p.x + 10, y: 2 * p.y + 10 }),
  back: (p) => ({ ...p, x: (p.x - 10) / 2, y: (p.y - 10) / 2 }),
};

type Params = Record<string, unknown>;
function held(params: Params, frame = 5) {
  const changes: { params: Params; done: boolean }[] = [];
  const veil = { name: "emblem", kind: "apply", frame: 0, params } as unknown as Veil;
  const item = artGrips(veil, ART, OUTLINE, LARGER, frame, (p, done) => changes.push({ params: p, done }));
  const at = (id: string): FramePt => item.points.find((p) => p.id === id)!.at;
  return { item, at, changes };
}

describe("artwork in hand", () => {
  it("is held by its middle and its four corners", () => {
    const { item, at } = held({});
    expect(item.points.map((p) => p.id)).toEqual(["middle", ...CORNER_NAMES]);
    const middle = at("middle");
    const corners = CORNER_NAMES.map(at);
    expect(corners.reduce((sum, c) => sum + c.x, 0) / 4).toBeCloseTo(middle.x);
    expect(corners.reduce((sum, c) => sum + c.y, 0) / 4).toBeCloseTo(middle.y);
  });

  it("moves by its middle in px of the reference, not of the view", () => {
    const { item, at, changes } = held({ across: 3 });
    const from = at("middle");
    item.onDrag("middle", { x: from.x + 8, y: from.y - 4 }, false);
    expect(changes).toEqual([{ params: { across: 7, down: -2 }, done: false }]);
  });

  it("moves one corner and leaves the others", () => {
    const { item, at, changes } = held({});
    const from = at("top_right");
    item.onDrag("top_right", { x: from.x + 6, y: from.y }, true);
    expect(changes[0]!.done).toBe(true);
    expect(changes[0]!.params).toMatchObject({ top_right_x: 3, top_right_y: 0 });
    expect(Object.keys(changes[0]!.params).some((n) => n.startsWith("top_left"))).toBe(false);
  });

  it("sets a key on this frame where the number has keys already", () => {
    const keys = { keys: { 0: 1 }, ease: "hold" };
    const { item, at, changes } = held({ across: keys }, 5);
    const from = at("middle");
    item.onDrag("middle", { x: from.x + 2, y: from.y }, true);
    expect(changes[0]!.params.across).toEqual({ keys: { 0: 1, 5: 2 }, ease: "hold" });
  });

  it("bends at one point of its grid", () => {
    const bend = Array.from({ length: 9 }, () => [0, 0]);
    const { item, at, changes } = held({ bend });
    const from = at("bend 4");
    item.onDrag("bend 4", { x: from.x + 4, y: from.y + 2 }, true);
    const bent = changes[0]!.params.bend as [number, number][];
    expect(bent[4]).toEqual([2, 1]);
    expect(bent.filter(([x, y]) => x !== 0 || y !== 0)).toHaveLength(1);
    expect(item.lines).toHaveLength(6);
  });
});
