import { describe, expect, it } from "vitest";
import { afterReply } from "./queries";
import {
  reordered,
  valueAt,
  withKey,
  withoutKey,
  asRecipe,
  drapeOutline,
  freeName,
  plainNumber,
  readOutline,
  renameDrape,
  spotRecipe,
  withoutDrape,
  withVeil,
  writeOutline,
  type Pair,
} from "./recipe";

const points: Pair[] = [
  [1, 2],
  [3, 4],
  [5, 6.123],
];

describe("outlines as they are written", () => {
  it("reads bare points and points with corners", () => {
    expect(readOutline(points).corners).toEqual([false, false, false]);
    expect(readOutline({ points, corners: [true, false, true] }).corners).toEqual([true, false, true]);
  });
  it("writes bare points unless there is a corner, rounded to a hundredth", () => {
    expect(writeOutline({ points, corners: [false, false, false] })).toEqual([
      [1, 2],
      [3, 4],
      [5, 6.12],
    ]);
    expect(writeOutline({ points, corners: [true, false, false] })).toHaveProperty("corners");
    const soft = readOutline({ points, feathers: [1, 2, 0] });
    expect(soft.feathers).toEqual([1, 2, 0]);
    expect(writeOutline(soft)).toEqual({ points: writeOutline(readOutline(points)), feathers: [1, 2, 0] });
    expect(writeOutline({ ...soft, feathers: [1, 1, 1] })).toEqual(writeOutline(readOutline(points)));
  });
});

describe("changing a recipe", () => {
  const made = spotRecipe({ drapes: [], veils: [], holdouts: [] }, 40, points, points);

  it("makes a drape and a veil that rests on it", () => {
    expect(made.recipe.veils[0]).toMatchObject({
      name: "spot 1",
      drape: "skin 1",
      frame: 40,
      kind: "conceal",
    });
    expect(drapeOutline(made.recipe.drapes[0]!).points).toEqual(points);
    const second = spotRecipe(made.recipe, 50, points, points);
    expect([second.drape, second.veil]).toEqual(["skin 2", "spot 2"]);
  });
  it("renames a drape where its veils speak of it", () => {
    const renamed = renameDrape(made.recipe, "skin 1", "brow");
    expect(renamed.veils[0]!.drape).toBe("brow");
    expect(renamed.drapes[0]!.name).toBe("brow");
  });
  it("takes a drape's veils with it", () => {
    expect(withoutDrape(made.recipe, "skin 1")).toMatchObject({ drapes: [], veils: [], holdouts: [] });
  });
  it("changes one veil only and leaves the old recipe alone", () => {
    const changed = withVeil(made.recipe, "spot 1", (v) => ({ ...v, opacity: 0.5 }));
    expect(changed.veils[0]!.opacity).toBe(0.5);
    expect(made.recipe.veils[0]!.opacity).toBeUndefined();
  });
  it("finds free names and fills in lists", () => {
    expect(freeName("spot", ["spot 1", "spot 2"])).toBe("spot 3");
    expect(asRecipe({})).toEqual({ drapes: [], veils: [], holdouts: [] });
  });
  it("shows a keyed value by its first key", () => {
    expect(plainNumber({ keys: { "10": 0.25 }, ease: "linear" }, 1)).toBe(0.25);
    expect(plainNumber(undefined, 3)).toBe(3);
  });
});

describe("an answer that comes after a later edit", () => {
  const state = (revision: number, names: string[]) =>
    ({ revision, label: "", recipe: { drapes: names.map((name) => ({ name })), veils: [] } }) as never;
  it("does not take the later edit off the screen, but is what the next is made on", () => {
    const after = afterReply(state(1, ["a", "b"]), state(2, ["a"]), true);
    expect(after.revision).toBe(2);
    expect(after.recipe.drapes).toHaveLength(2);
  });
  it("is shown when nothing came after it", () => {
    expect(afterReply(state(1, ["a", "b"]), state(2, ["a"]), false).recipe.drapes).toHaveLength(1);
  });
});

describe("values over frames", () => {
  const keyed = { keys: { "10": 0, "20": 1 }, ease: "linear" as const };
  it("are held at the ends and eased between, as in the core", () => {
    expect([5, 10, 15, 20, 30].map((f) => valueAt(keyed, f))).toEqual([0, 0, 0.5, 1, 1]);
    expect(valueAt({ ...keyed, ease: "hold" }, 19)).toBe(0);
    expect(valueAt({ ...keyed, ease: "smooth" }, 12)).toBeCloseTo(0.104, 6);
    expect(valueAt(3, 99)).toBe(3);
  });
  it("get keys on one frame only, and lose them again", () => {
    expect(withKey(keyed, 15, 4)).toEqual({ keys: { "10": 0, "15": 4, "20": 1 }, ease: "linear" });
    expect(withKey(2, 7, 5)).toEqual({ keys: { "7": 5 }, ease: "linear" });
    expect(withoutKey(withKey(2, 7, 5), 7)).toBe(5);
    expect(withoutKey(keyed, 10)).toEqual({ keys: { "20": 1 }, ease: "linear" });
  });
});

describe("the order of laying", () => {
  const veil = (name: string) => ({ name, kind: "keep", frame: 0 });
  const list = { drapes: [], holdouts: [], veils: ["a", "b", "c"].map(veil) };
  it("moves one veil and keeps the others in their order", () => {
    const names = (to: number) => reordered(list, "a", to).veils.map((v) => v.name);
    expect(names(2)).toEqual(["b", "c", "a"]);
    expect(names(1)).toEqual(["b", "a", "c"]);
    expect(names(-5)).toEqual(["a", "b", "c"]);
    expect(reordered(list, "nobody", 0)).toBe(list);
  });
});
