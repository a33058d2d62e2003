import { afterEach, describe, expect, it, vi } from "vitest";
import { flatAddress, frameAddress, layersOf, type Scene } from "./addresses";
import { advanced, Clock, rateAt } from "./clock";
import { Pictures } from "./pictures";
import { frameFromDesign, frameFromRef, statusAt } from "./surface";
import type { Track } from "../features/queries";

const scene: Scene = { shot: 1, revision: 7, token: "abc", empty: false, solo: null };
const range = { first: 10, last: 19 };

describe("the clock", () => {
  it("is due at the true rate", () => {
    const clock = new Clock();
    expect(clock.due(1000, 25, 1)).toBe(0);
    expect(clock.due(1040, 25, 1)).toBe(1);
    expect(clock.due(1060, 25, 1)).toBe(0);
    expect(clock.due(1080, 25, 1)).toBe(1);
    expect(clock.due(1160, 25, -1)).toBe(-2);
  });
  it("does not jump after a wait", () => {
    const clock = new Clock();
    clock.due(0, 25, 1);
    clock.due(39, 25, 1);
    clock.wait();
    expect(clock.due(78, 25, 1)).toBe(0);
  });
  it("keeps each frame as long as it really stands where the rate varies", () => {
    const seconds = [0, 0.04, 0.08, 0.2];
    expect(rateAt(1001, 1001, 25, seconds)).toBeCloseTo(25);
    expect(rateAt(1003, 1001, 25, seconds)).toBeCloseTo(1 / 0.12);
    expect(rateAt(1004, 1001, 25, seconds)).toBe(25);
    expect(rateAt(1001, 1001, 25, null)).toBe(25);
  });
  it("loops within the range or stops at its end", () => {
    expect(advanced(19, 1, range, true)).toBe(10);
    expect(advanced(10, -1, range, true)).toBe(19);
    expect(advanced(19, 1, range, false)).toBe(19);
    expect(advanced(12, 3, range, false)).toBe(15);
    expect(advanced(10, 25, range, true)).toBe(15);
  });
});

describe("addresses", () => {
  it("of the original never change with the recipe", () => {
    expect(frameAddress(scene, 4, "original", "jpg")).toBe("/api/shots/1/frames/4.jpg");
  });
  it("of the result carry revision and token, or are not there yet", () => {
    expect(frameAddress(scene, 4, "result", "png")).toContain("revision=7&token=abc");
    expect(frameAddress({ ...scene, token: null }, 4, "result", "png")).toBeNull();
    expect(frameAddress({ ...scene, empty: true }, 4, "result", "png")).toBe("/api/shots/1/frames/4.png");
  });
  it("name drapes safely", () => {
    expect(flatAddress(scene, "skin 1", "t", 3, "result", "jpg")).toContain(
      "/drapes/skin%201/flat/3.jpg?look=result",
    );
  });
  it("need both layers for a comparison", () => {
    expect(layersOf("wipe")).toEqual(["original", "result"]);
    expect(layersOf("matte")).toEqual(["matte"]);
  });
});

describe("the surface", () => {
  const shift = [1, 0, 5, 0, 1, 0, 0, 0, 1];
  const track = {
    frames: [3, 4],
    status: ["ok", "weak"],
    error_px: [0, 0.7],
    homographies: [[1, 0, 0, 0, 1, 0, 0, 0, 1], shift],
    rowOf: new Map([
      [3, 0],
      [4, 1],
    ]),
  } as unknown as Track;
  const surface = { track, positions: undefined };
  const drape = { name: "d", reference_frames: [3], outline: {} };
  const veil = { name: "v", kind: "conceal", drape: "d", frame: 4, outline: [] };

  it("is known on the reference without a track, and nowhere else", () => {
    const none = { track: null, positions: undefined };
    expect(frameFromRef(none, drape, 3)).not.toBeNull();
    expect(frameFromRef(none, drape, 4)).toBeNull();
    expect(frameFromRef(surface, drape, 4)!.there({ x: 1, y: 2 })).toEqual({ x: 6, y: 2 });
  });
  it("carries from the frame a veil was drawn on", () => {
    const back = frameFromDesign(surface, drape, veil, 3)!;
    expect(back.there({ x: 0, y: 0 }).x).toBeCloseTo(-5);
  });
  it("of a mesh waits for its vertices, then bends with them", () => {
    const mesh = { ...track, homographies: null, vertices: 3, triangles: [0, 1, 2] } as unknown as Track;
    expect(frameFromRef({ track: mesh, positions: undefined }, drape, 4)).toBeNull();
    const positions = new Float32Array([0, 0, 10, 0, 0, 10, 0, 0, 20, 0, 0, 10]);
    expect(frameFromRef({ track: mesh, positions }, drape, 4)!.there({ x: 5, y: 0 }).x).toBeCloseTo(10);
  });
  it("says how it stands", () => {
    expect(statusAt(track, 4)).toEqual({ status: "weak", error: 0.7 });
    expect(statusAt(track, 9).status).toBe("unfollowed");
  });
});

describe("pictures", () => {
  afterEach(() => vi.unstubAllGlobals());

  it("prefetches few at once, and a new wish replaces the old", async () => {
    const asked: string[] = [];
    const release: (() => void)[] = [];
    vi.stubGlobal("fetch", (url: string) => {
      asked.push(url);
      return new Promise((resolve) =>
        release.push(() => resolve({ ok: true, blob: () => Promise.resolve(new Blob(["x"])) })),
      );
    });
    const pictures = new Pictures();
    pictures.prefetch(["a", "b", "c", "d"]);
    expect(asked).toEqual(["a", "b"]);
    pictures.prefetch(["x"]);
    release.forEach((r) => r());
    await vi.waitFor(() => expect(asked).toEqual(["a", "b", "x"]));
  });

  it("keeps the server's sentence when a picture is refused", async () => {
    vi.stubGlobal("fetch", () =>
      Promise.resolve({ ok: false, json: () => Promise.resolve({ message: "Not there." }) }),
    );
    const pictures = new Pictures();
    expect(await pictures.get("a")).toBeNull();
    expect(pictures.refusal).toBe("Not there.");
    expect(pictures.has("a")).toBe(false);
  });
});
