import { describe, expect, it } from "vitest";
import type { Drape } from "../recipe";
import { changed, vertexAdded, vertexRemoved, verticesOf } from "./vertices";

const none = verticesOf({ name: "a", reference_frames: [0], outline: {} } as Drape);

describe("vertices by hand", () => {
  it("are added and taken away", () => {
    const more = vertexAdded(none, [10, 20], 4);
    const both = vertexRemoved(more, [40, 50], 4);
    expect(both).toEqual({ adapted: false, added: [[10, 20]], removed: [[40, 50]] });
    expect([changed(none), changed(both), changed({ ...none, adapted: true })]).toEqual([false, true, true]);
  });

  it("take back what was done at the same place", () => {
    expect(vertexRemoved(vertexAdded(none, [10, 20], 4), [12, 21], 4)).toEqual(none);
    expect(vertexAdded(vertexRemoved(none, [10, 20], 4), [12, 21], 4)).toEqual(none);
    expect(vertexAdded(vertexRemoved(none, [10, 20], 4), [30, 20], 4).added).toHaveLength(1);
  });
});
