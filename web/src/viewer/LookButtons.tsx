import type { ReactNode } from "react";
import { useUi, type Look } from "../app/store";
import { Button, Choice } from "../ui/controls";
import { MATTE_LOOKS, matteLook } from "./addresses";

const LOOKS: { value: Look; text: string; title: string }[] = [
  { value: "original", text: "Original", title: "The clip as it was brought in" },
  { value: "result", text: "Result", title: "With all veils laid" },
  { value: "wipe", text: "Wipe", title: "Original left, result right; drag the line" },
  { value: "difference", text: "Difference", title: "What the veils changed, made brighter" },
  { value: "matte", text: "Matte", title: "How much of each pixel is changed" },
  { value: "tracked", text: "Tracked", title: "What followers see: local contrast, raised" },
];

/** What is seen of a frame, and how: beside the name of the shot view. */
export function LookButtons({ gainButton }: { gainButton: ReactNode }) {
  const ui = useUi();
  const { look } = ui;
  const seenMatte = matteLook(look);
  return (
    <>
      <span className="hidden @lg:contents">
        <Choice
          label="What is seen"
          value={seenMatte ? "matte" : look}
          options={LOOKS}
          onChange={(v) => ui.set({ look: v })}
          compact
        />
      </span>
      <select
        aria-label="What is seen"
        value={seenMatte ? "matte" : look}
        onChange={(e) => ui.set({ look: e.target.value as Look })}
        className="rounded border border-line bg-ground px-1 py-0.5 @lg:hidden"
      >
        {LOOKS.map(({ value, text }) => (
          <option key={value} value={value}>
            {text}
          </option>
        ))}
      </select>
      {look === "tracked" && gainButton}
      {seenMatte && (
        <Button
          kind="quiet"
          title="The matte alone, as a tint over the result, or its edge"
          onClick={() => {
            const next = (MATTE_LOOKS.indexOf(seenMatte) + 1) % MATTE_LOOKS.length;
            ui.set({ look: MATTE_LOOKS[next]! });
          }}
        >
          {{ matte: "alone", tint: "tint", edge: "edge" }[seenMatte]}
        </Button>
      )}
      {look === "difference" && (
        <Button
          kind="quiet"
          title="How much brighter the difference is shown: 1, 4 or 16 times"
          onClick={() => ui.set({ differenceGain: ui.differenceGain === 16 ? 1 : ui.differenceGain * 4 })}
        >
          <span className="num">{ui.differenceGain}x</span>
        </Button>
      )}
    </>
  );
}
