import { describe, expect, it } from "vitest";
import { curveLines } from "./curve";

describe("a curve over the shot", () => {
  it("goes from its lowest to its highest value", () => {
    expect(curveLines({ 0: 1, 1: 3, 2: 2 }, [0, 2], [30, 10])).toEqual(["5.0,8.5 15.0,1.5 25.0,5.0"]);
  });

  it("is broken where frames are missing, and empty without any", () => {
    expect(curveLines({ 0: 1, 1: 1, 5: 1 }, [0, 9], [100, 10])).toHaveLength(2);
    expect(curveLines({}, [0, 9], [100, 10])).toEqual([]);
    expect(curveLines({ 40: 1 }, [0, 9], [100, 10])).toEqual([]);
  });
});
