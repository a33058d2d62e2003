import { describe, expect, it } from "vitest";
import type { Veil } from "../recipe";
import { hasOwn, withOne, withOwn } from "./placements";

const veil = (params: Record<string, unknown>): Veil => ({ name: "v", kind: "apply", frame: 0, params });

describe("placements on reference frames", () => {
  it("are own once every value is keyed there, as it stood", () => {
    const given = veil({ art: "emblem", across: 4, turn: { keys: { "10": 5, "30": 25 } } });
    expect(hasOwn(given, 10)).toBe(false);
    const own = veil(withOwn(given, [10, 20]));
    expect([hasOwn(own, 10), hasOwn(own, 20), hasOwn(own, 30)]).toEqual([true, true, false]);
    expect(own.params!.across).toMatchObject({ keys: { "10": 4, "20": 4 } });
    expect(own.params!.turn).toMatchObject({ keys: { "10": 5, "20": 15, "30": 25 } });
    expect(own.params!.art).toBe("emblem");
  });

  it("become one again, without what is as it always is", () => {
    const own = veil(withOwn(veil({ across: 4 }), [10, 20]));
    (own.params!.across as { keys: Record<string, number> }).keys["20"] = 9;
    expect(withOne(own, 20)).toEqual({ across: 9 });
    expect(withOne(own, 10)).toEqual({ across: 4 });
  });
});
