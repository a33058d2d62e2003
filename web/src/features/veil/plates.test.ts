import { describe, expect, it } from "vitest";
import type { Veil } from "../recipe";
import { platesOf, withPlate } from "./plates";

const veil = (params: Record<string, unknown>): Veil => ({ name: "v", kind: "conceal", frame: 5, params });

describe("plates", () => {
  it("are those of the reference and of other frames, by frame", () => {
    const given = veil({ plate: "main", plates: [{ frame: 2, plate: "early" }] });
    expect(platesOf(given, 5)).toEqual([
      { frame: 2, plate: "early" },
      { frame: 5, plate: "main" },
    ]);
    expect(platesOf(veil({}), 5)).toEqual([]);
  });

  it("are set, replaced and left out by frame", () => {
    const one = veil(withPlate(veil({ way: "brought in" }), { frame: 9, plate: "late" }, 5));
    expect(one.params).toEqual({ way: "brought in", plates: [{ frame: 9, plate: "late" }] });
    const two = veil(withPlate(one, { frame: 5, plate: "main" }, 5));
    expect(platesOf(two, 5)).toHaveLength(2);
    const other = veil(withPlate(two, { frame: 9, plate: "other" }, 5));
    expect(platesOf(other, 5)[1]).toEqual({ frame: 9, plate: "other" });
    expect(withPlate(other, { frame: 9, plate: "" }, 5)).toEqual({ way: "brought in", plate: "main" });
  });
});
