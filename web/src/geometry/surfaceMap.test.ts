import { describe, expect, it } from "vitest";
import { matrixMap, meshMap, reversed, still, chained } from "./surfaceMap";

describe("surface maps", () => {
  const shift = matrixMap([1, 0, 5, 0, 1, -2, 0, 0, 1]);
  const square = { values: new Float32Array([0, 0, 10, 0, 0, 10, 10, 10]), offset: 0 };
  const bent = { values: new Float32Array([9, 9, 0, 0, 20, 0, 0, 10, 30, 30]), offset: 2 };
  const mesh = meshMap(square, bent, [0, 1, 2, 1, 3, 2]);

  it("compose in the order they are said", () => {
    const both = chained(shift, mesh);
    expect(both.there({ x: -5, y: 2 })).toEqual({ x: 0, y: 0 });
    const home = both.back(both.there({ x: 1, y: 7 }));
    expect(home.x).toBeCloseTo(1);
    expect(home.y).toBeCloseTo(7);
    expect(reversed(shift).there({ x: 5, y: -2 })).toEqual({ x: 0, y: 0 });
    expect(still.there({ x: 3, y: 4 })).toEqual({ x: 3, y: 4 });
  });

  it("bend triangle by triangle, and are undone", () => {
    expect(mesh.there({ x: 5, y: 0 }).x).toBeCloseTo(10);
    expect(mesh.there({ x: 10, y: 10 }).y).toBeCloseTo(30);
    const back = mesh.back(mesh.there({ x: 7, y: 6 }));
    expect(back.x).toBeCloseTo(7);
    expect(back.y).toBeCloseTo(6);
  });

  it("go on beyond the mesh as the nearest triangle does", () => {
    expect(mesh.there({ x: -2, y: 0 }).x).toBeCloseTo(-4);
  });
});
