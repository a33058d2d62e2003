import { describe, expect, it } from "vitest";
import { FIRST_BRUSH, offsetFor, strokeWith, thinned, withMoved, type Stroke } from "./brush";

describe("a brush", () => {
  it("asks for a source before it clones or heals", () => {
    expect(strokeWith(FIRST_BRUSH, [[10, 10]])).toBeNull();
    expect(strokeWith({ ...FIRST_BRUSH, tool: "colour" }, [[10, 10]])).toMatchObject({
      tool: "colour",
      colour: "#c08a70",
    });
  });
  it("keeps its offset while the source follows, and takes a new one where it is fixed", () => {
    const brush = { ...FIRST_BRUSH, source: [50, 20] as [number, number] };
    expect(offsetFor(brush, [10, 10])).toEqual([40, 10]);
    expect(offsetFor({ ...brush, offset: [5, 5] }, [10, 10])).toEqual([5, 5]);
    expect(offsetFor({ ...brush, offset: [5, 5], follows: false }, [20, 10])).toEqual([30, 10]);
  });
  it("writes only what its tool has", () => {
    const soft = strokeWith({ ...FIRST_BRUSH, tool: "soften", part: "texture" }, [[1, 1]])!;
    expect(soft).toMatchObject({ part: "texture", amount: 3 });
    expect(soft.offset).toBeUndefined();
    expect(soft.colour).toBeUndefined();
  });
  it("thins what a hand draws and keeps both ends", () => {
    const drawn = Array.from({ length: 21 }, (_, i): [number, number] => [i * 0.2, 0]);
    const kept = thinned(drawn, 1);
    expect(kept[0]).toEqual([0, 0]);
    expect(kept[kept.length - 1]).toEqual([4, 0]);
    expect(kept.length).toBe(5);
  });
});

describe("a stroke in hand", () => {
  const strokes: Stroke[] = [
    { tool: "colour", points: [[1, 2]] },
    { tool: "heal", points: [[10, 10], [12, 10, 0.5]], offset: [30, 0] }, // prettier-ignore
  ];

  it("moves alone, keeps its pressure and samples where it did", () => {
    const moved = withMoved(strokes, 1, [5, -2]);
    expect(moved[0]).toBe(strokes[0]);
    expect(moved[1]!.points).toEqual([
      [15, 8],
      [17, 8, 0.5],
    ]);
    // 10 + 30 before, 15 + 25 now.
    expect(moved[1]!.offset).toEqual([25, 2]);
  });

  it("without a source has none to keep", () => {
    expect(withMoved(strokes, 0, [1, 1])[0]).toEqual({ tool: "colour", points: [[2, 3]] });
  });
});
