import { describe, expect, it } from "vitest";
import type { Schema } from "../api/client";
import { counts } from "./ParamPanel";

const param = (name: string, more: Partial<Schema["Param"]> = {}): Schema["Param"] => ({
  name,
  type: "number",
  label: name,
  help: "",
  group: "Skin",
  unit: "",
  low: null,
  high: null,
  step: null,
  choices: [],
  keyable: false,
  when: "",
  among: [],
  default: 0,
  ...more,
});

describe("which parameters of a panel count", () => {
  const way = param("way", { type: "choice", choices: ["donor", "plate"], default: "donor" });
  const turn = param("donor_turn", { when: "way", among: ["donor"] });
  const light = param("light");
  const all = [way, turn, light];

  it("is all of them that depend on nothing", () => {
    expect(counts(light, all, { way: "plate" })).toBe(true);
  });

  it("is one that depends on a choice only while it is made, by default too", () => {
    expect(counts(turn, all, {})).toBe(true);
    expect(counts(turn, all, { way: "donor" })).toBe(true);
    expect(counts(turn, all, { way: "plate" })).toBe(false);
  });
});
