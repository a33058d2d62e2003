import { describe, expect, it } from "vitest";
import type { Veil } from "../recipe";
import { donorsOf, dragged, stepOf, withDonors, withOneMore } from "./donors";

const veil = (params: Veil["params"] = {}): Veil =>
  ({ name: "spot", kind: "conceal", drape: "arm", frame: 3, params }) as Veil;

describe("donors", () => {
  it("begin with the one that was found, and lie on the other side", () => {
    expect(withOneMore(veil(), [12, -4])).toEqual([
      { x: 12, y: -4 },
      { x: -12, y: 4 },
    ]);
    const two = withDonors(veil(), withOneMore(veil(), [12, -4]));
    expect(withOneMore(two, [0, 0])[2]).toEqual({ x: 12, y: -4 });
  });

  it("are dragged everywhere, or on this frame once they have keys", () => {
    expect(dragged({ x: 1, y: 2 }, 9, [5, 6])).toEqual({ x: 5, y: 6 });
    const keyed = dragged({ x: { keys: { 0: 1 }, ease: "linear" }, y: 2 }, 10, [5, 6]);
    expect(stepOf(keyed, 10)).toEqual([5, 6]);
    expect(stepOf(keyed, 5)[0]).toBe(3);
  });

  it("leave nothing behind when the last goes", () => {
    const two = withDonors(veil({ light: 0.5 }), [{ x: 1, y: 1 }]);
    expect(donorsOf(two)).toHaveLength(1);
    expect(withDonors(two, []).params).toEqual({ light: 0.5 });
  });
});
