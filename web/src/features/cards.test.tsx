import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, within } from "@testing-library/react";
import { Tooltip } from "radix-ui";
import type { ReactNode } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Schema } from "../api/client";
import { useUi } from "../app/store";
import { Rack } from "../rack/Rack";
import { DrapeCard } from "./drape/DrapeCard";
import { LostAdvice } from "./drape/LostAdvice";
import { HandOverCard } from "./delivery/HandOverCard";
import { ProofCard } from "./proof/ProofCard";
import {
  deliveriesQuery,
  jobsQuery,
  paramsQuery,
  proofQuery,
  recipeQuery,
  stateQuery,
  trackQuery,
  type Track,
} from "./queries";
import { spotRecipe, type Pair } from "./recipe";
import { ShotCard } from "./shot/ShotCard";

const shot = {
  id: 1,
  name: "Pilot at the rail",
  production: "The Lantern Ferry",
  note: "Take out the spot.",
  in_frame: 1001,
  out_frame: 1020,
  facts: {
    kind: "movie",
    width: 960,
    height: 540,
    rate: "30000/1001",
    first_frame: 1001,
    last_frame: 1040,
    frame_count: 40,
    codec: "h264",
    pixel_format: "yuv420p",
    bits: 8,
    transfer: "bt709",
    colour: { matrix: "not tagged" },
    pixel_aspect: "1",
    timecode: null,
    variable: true,
    held: [],
    warnings: ["The frame rate varies."],
  },
  timecodes: ["00:00:33;11", "00:00:34;20"],
  start_count: 1001,
  drop: true,
  frame_seconds: null,
} as Schema["Shot"];

const circle: Pair[] = [
  [0, 0],
  [10, 0],
  [10, 10],
];
const { recipe } = spotRecipe({ drapes: [], veils: [], holdouts: [] }, 1001, circle, circle);
let client: QueryClient;

beforeEach(() => {
  client = new QueryClient({ defaultOptions: { queries: { staleTime: Infinity, retry: false } } });
  vi.stubGlobal(
    "fetch",
    vi.fn(() => Promise.reject(new Error("no network in tests"))),
  );
  client.setQueryData(recipeQuery(1).queryKey, {
    revision: 4,
    label: "x",
    version_name: null,
    can_undo: true,
    can_redo: false,
    recipe,
  });
  const veil = { ready: true, laid: true, donor: [12, 3], why: "12 px away", others: [], hidden: [] };
  client.setQueryData(stateQuery(1).queryKey, {
    token: "t",
    empty: false,
    veils: { "spot 1": veil },
    followed: { "skin 1": 3 },
    proof: null,
  });
  const frames = [1001, 1002, 1010];
  client.setQueryData(trackQuery(1, "skin 1").queryKey, {
    token: "t",
    reference: 1001,
    frames,
    status: ["ok", "weak", "lost"],
    error_px: [0, 1.2, 9],
    edges: [],
    vertices: 0,
    flat_box: [0, 0, 10, 10],
    triangles: [],
    homographies: null,
    rowOf: new Map(frames.map((f, i) => [f, i])),
  } as never);
  client.setQueryData(paramsQuery.queryKey, {
    veils: {},
    followers: { plane: { label: "Plane", help: "", params: [] } },
  });
});
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const shown = (node: ReactNode) =>
  render(
    <QueryClientProvider client={client}>
      <Tooltip.Provider>{node}</Tooltip.Provider>
    </QueryClientProvider>,
  );

describe("the rack", () => {
  it("hangs veils under their drape and says how each stands", () => {
    shown(<Rack shot={shot} />);
    const rack = within(screen.getByRole("navigation", { name: "Rack" }));
    expect(rack.getByText(/1 lost/)).toBeTruthy();
    fireEvent.click(rack.getByText("spot 1"));
    expect(useUi.getState().selection).toEqual({ kind: "veil", name: "spot 1" });
    expect(useUi.getState().stage).toBe("veil");
  });
});

describe("the drape card", () => {
  it("sums up the track and jumps to what needs a look", () => {
    shown(<DrapeCard shot={shot} recipe={recipe} drape={recipe.drapes[0]!} />);
    expect(screen.getByText(/1 ok, 1 weak, 1 lost/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: /1010/ }));
    expect(useUi.getState().frame).toBe(1010);
  });
});

describe("where a drape is lost for long", () => {
  const lostFor = (count: number) => {
    const frames = Array.from({ length: count + 1 }, (_, i) => 1001 + i);
    const status = frames.map((_, i) => (i === 0 ? "ok" : "lost"));
    const track = { ...client.getQueryData<Track>(trackQuery(1, "skin 1").queryKey)!, frames, status };
    shown(<LostAdvice track={track} />);
  };
  it("the card says so and goes there", () => {
    lostFor(9);
    expect(screen.getByText("Lost on frames 1002 to 1010")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Go to 1006" }));
    expect(useUi.getState().frame).toBe(1006);
  });
  it("short gaps, which are closed from both ends, are no matter", () => {
    lostFor(3);
    expect(screen.queryByText(/Lost on frames/)).toBeNull();
  });
});

describe("the shot card", () => {
  it("shows the exact rate, the file's numbers and plain warnings", () => {
    shown(<ShotCard shot={shot} setRange={() => {}} />);
    expect(screen.getByText(/30000\/1001 fps/)).toBeTruthy();
    expect(screen.getByText(/1001 to 1040/)).toBeTruthy();
    expect(screen.getByText(/The frame rate varies/).textContent).toContain("▲");
  });
  it("offers to measure the shot, and says how far that is once it is under way", () => {
    const job = { id: 3, kind: "analyse", shot: 1, state: "running", done: 12, total: 40 };
    client.setQueryData(jobsQuery.queryKey, [{ ...job, shot: 2 }] as never);
    const { unmount } = shown(<ShotCard shot={shot} setRange={() => {}} />);
    expect(screen.getByRole("button", { name: "Measure the shot" })).toBeTruthy();
    unmount();
    client.setQueryData(jobsQuery.queryKey, [job] as never);
    shown(<ShotCard shot={shot} setRange={() => {}} />);
    expect(screen.getByText(/Being measured/).textContent).toBe("Being measured: 12 of 40 frames");
    expect(screen.queryByRole("button", { name: "Measure the shot" })).toBeNull();
  });
});

describe("the proof card", () => {
  it("teaches the next step while there is nothing to prove", () => {
    client.setQueryData(proofQuery(1).queryKey, null);
    shown(<ProofCard shot={shot} veils={0} />);
    expect(screen.getByText(/Take a spot off first/)).toBeTruthy();
    expect((screen.getByRole("button", { name: /Measure/ }) as HTMLButtonElement).disabled).toBe(true);
  });
  it("tells numbers, advice and where to look", () => {
    const frame = { seam: 1, grain: 1, tone: 9, level: 0, slide: 0.2, flicker: 0.1 };
    client.setQueryData(proofQuery(1).queryKey, {
      verdict: "fail",
      untouched_pixels_that_differ: 0,
      veils: {
        "spot 1": {
          verdict: "fail",
          medians: { seam: 1, grain: 1, tone: 9, flicker: 0.1, slide: 0.2 },
          advice: ["tone: raise the light match"],
          why_donor: "",
          coverage: null,
          not_laid: { "1015": "lost" },
          frames: [{ frame: 1004, verdict: "fail", ...frame }],
        },
      },
    } as never);
    shown(<ProofCard shot={shot} veils={1} />);
    expect(screen.getByText(/bit for bit/)).toBeTruthy();
    expect(screen.getByText("9.00")).toBeTruthy();
    expect(screen.getByText(/raise the light match/)).toBeTruthy();
    expect(screen.getByText(/Not laid on 1 frames, first on 1015/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: /1004/ }));
    expect(useUi.getState().frame).toBe(1004);
  });
});

describe("the hand-over card", () => {
  it("shows the names that will be written, from the file's own first number", () => {
    client.setQueryData(deliveriesQuery(1).queryKey, { folder: "/lib/deliveries", deliveries: [] });
    shown(<HandOverCard shot={shot} revision={{ revision: 4, version_name: null, label: "x" }} />);
    expect(screen.getByText("Pilot_at_the_rail.1001.png to Pilot_at_the_rail.1020.png")).toBeTruthy();
    fireEvent.click(screen.getByRole("radio", { name: "H.264 movie" }));
    expect(screen.getByText(/at exactly/).textContent).toContain("30000/1001 fps");
  });
});
