import { describe, expect, it } from "vitest";
import { ACTIONS, actionFor, keyLabel, keyName, type Doing } from "../actions/actions";
import { withJob } from "../features/jobs";
import { longestLost, worstFrames } from "../features/drape/model";
import { fileName } from "../features/delivery/model";
import { lookAt } from "../features/proof/model";
import { frameAt, rulerStep, xOf } from "../score/ribbons";
import type { Schema } from "../api/client";
import { stageMarks } from "./stages";
import { useUi } from "./store";
import { rateValue, timecode } from "./timecode";

describe("timecode (SMPTE ST 12-1)", () => {
  it.each([
    [1800, "30000/1001", true, "00:01:00;02"],
    [17982, "30000/1001", true, "00:10:00;00"],
    [3600, "60000/1001", true, "00:01:00;04"],
    [90000, "25", false, "01:00:00:00"],
  ])("count %i at %s", (count, rate, drop, text) => {
    expect(timecode(count, rate, drop)).toBe(text);
  });
  it("reads rationals", () => {
    expect(rateValue("24000/1001")).toBeCloseTo(23.976, 3);
  });
});

describe("actions", () => {
  const doing = (): Doing => ({
    first: 0,
    last: 99,
    inFrame: 0,
    outFrame: 99,
    canUndo: false,
    canRedo: false,
    hasDrape: false,
    canPaint: false,
    move: () => {},
    setRange: () => {},
    follow: () => {},
    prove: () => {},
  });

  it("have a label and keys that do not clash", () => {
    const keys = ACTIONS.flatMap((a) => a.keys);
    expect(new Set(keys).size).toBe(keys.length);
    expect(new Set(ACTIONS.map((a) => a.id)).size).toBe(ACTIONS.length);
    for (const a of ACTIONS) {
      expect(a.label, a.id).toBeTruthy();
      expect(a.keys.length, a.id).toBeGreaterThan(0);
    }
  });
  it("are found by the pressed key", () => {
    const press = (key: string, more = {}) =>
      actionFor(keyName({ key, ctrlKey: false, metaKey: false, shiftKey: false, ...more }))?.id;
    expect(press(" ")).toBe("play");
    expect(press("Z", { ctrlKey: true, shiftKey: true })).toBe("redo");
    expect(press("z", { metaKey: true })).toBe("undo");
    expect(press("?", { shiftKey: true })).toBe("help");
    expect(keyLabel("Ctrl+Shift+Z")).toBe("Ctrl+Shift+Z");
    expect(keyLabel(" ")).toBe("Space");
  });
  it("step and stay within the shot", () => {
    useUi.getState().set({ frame: 98 });
    actionFor("Shift+ArrowRight")!.run(doing());
    expect(useUi.getState().frame).toBe(99);
    actionFor("Home")!.run(doing());
    expect(useUi.getState().frame).toBe(0);
  });
  it("shuttle faster when pressed again, and stop", () => {
    useUi.getState().set({ playing: 0 });
    actionFor("l")!.run(doing());
    actionFor("l")!.run(doing());
    expect(useUi.getState().playing).toBe(2);
    actionFor("j")!.run(doing());
    expect(useUi.getState().playing).toBe(-1);
    actionFor("k")!.run(doing());
    expect(useUi.getState().playing).toBe(0);
  });
  it("hide overlays only while the key is held", () => {
    const peek = actionFor("h")!;
    peek.run(doing());
    expect(useUi.getState().overlaysHeld).toBe(true);
    peek.release!();
    expect(useUi.getState().overlaysHeld).toBe(false);
  });
  it("need what they need", () => {
    expect(actionFor("Ctrl+z")!.when!(doing())).toBe(false);
    expect(actionFor("f")!.when!({ ...doing(), hasDrape: true })).toBe(true);
  });
});

describe("the score", () => {
  const scale = { first: 1001, last: 1100, width: 500 };
  it("takes frames to places and back", () => {
    for (const f of [1001, 1050, 1100]) expect(frameAt(scale, xOf(scale, f))).toBe(f);
    expect(frameAt(scale, -10)).toBe(1001);
    expect(frameAt(scale, 9999)).toBe(1100);
  });
  it("labels the ruler with room between", () => {
    expect(rulerStep(100, 1100)).toBe(10);
    expect(rulerStep(5000, 500)).toBeGreaterThanOrEqual(500);
  });
});

describe("what needs a look", () => {
  it("is the worst of the track, well apart, in order of time", () => {
    const frames = Array.from({ length: 20 }, (_, i) => i);
    const status = frames.map((f) => (f === 3 || f === 4 ? "lost" : f > 15 ? "weak" : "ok"));
    const found = worstFrames({ frames, status, error_px: frames.map((f) => f / 10) }, 3);
    expect(found.map((f) => f.frame)).toEqual([4, 19]);
  });
  it("names the longest stretch that is lost", () => {
    const status = ["lost", "ok", "lost", "occluded", "lost", "weak", "outside"];
    expect(longestLost({ frames: [0, 1, 2, 3, 4, 5, 6], status })).toEqual([2, 4]);
    expect(longestLost({ frames: [0, 1], status: ["ok", "weak"] })).toBeNull();
  });
  it("is fails before cautions in the proof", () => {
    const frames = [
      { frame: 1, verdict: "caution" as const },
      { frame: 5, verdict: "pass" as const },
      { frame: 9, verdict: "fail" as const },
      { frame: 10, verdict: "fail" as const },
    ];
    expect(lookAt(frames, 2).map((f) => f.frame)).toEqual([1, 9]);
    expect(lookAt(frames, 1).map((f) => f.frame)).toEqual([9]);
  });
});

describe("stages", () => {
  const recipe = {
    drapes: [{ name: "d", reference_frames: [1], outline: {} }],
    veils: [{ name: "v", kind: "conceal", drape: "d", frame: 1, outline: [] }],
    holdouts: [],
  };
  const state = { token: "t", empty: false, followed: { d: 9 }, proof: null, veils: {} } as Schema["State"];
  it("say how far each is", () => {
    expect(
      stageMarks({ recipe: undefined, state: undefined, proof: null, revision: 1, deliveries: [] }),
    ).toMatchObject({
      drape: "nothing",
      proof: "nothing",
      delivery: "nothing",
    });
    const marks = stageMarks({
      recipe,
      state,
      proof: "caution",
      revision: 3,
      deliveries: [{ revision: 2, state: "done" }],
    });
    expect(marks).toEqual({ shot: "ready", drape: "ready", veil: "work", proof: "look", delivery: "work" });
  });
});

describe("small things", () => {
  it("put a job in its place", () => {
    const job = (id: number, done = 0) => ({ id, done }) as Schema["Job"];
    expect(withJob([job(3), job(1)], job(1, 5)).map((j) => [j.id, j.done])).toEqual([
      [3, 0],
      [1, 5],
    ]);
  });
  it("name files as the server does", () => {
    expect(fileName("ferry.", 101, 5)).toBe("ferry.00101.png");
  });
});
