import { SPAN_FRAMES, STUCK, useUi } from "../../app/store";
import { Button, Choice, Section } from "../../ui/controls";
import type { Track } from "../queries";
import { worstRoundTrip } from "./model";

const STUCK_CHOICES = STUCK.map((value) => ({ value, text: value === "none" ? "nothing" : value }));

/** How to judge a track: what is stuck to it, what the follower saw, and whether it finds its way back. */
export function Checks({ track, onMeasure }: { track: Track; onMeasure: () => void }) {
  const ui = useUi();
  const worst = worstRoundTrip(track);
  return (
    <Section title="Checks">
      <Choice
        label="Stuck to it"
        value={ui.stuck}
        options={STUCK_CHOICES}
        onChange={(stuck) => ui.set({ stuck })}
      />
      <div className="mt-1 flex flex-wrap gap-1.5">
        <Button
          pressed={ui.look === "tracked"}
          onClick={() => ui.set({ look: ui.look === "tracked" ? "result" : "tracked" })}
          title="What followers see: local contrast (Y)"
        >
          Follower's view
        </Button>
        <Button
          pressed={ui.flatLook === "residual"}
          onClick={() =>
            ui.set({ flatShown: true, flatLook: ui.flatLook === "residual" ? "same" : "residual" })
          }
          title="In the flat view: what differs from the reference; a surface that holds is even grey"
        >
          Residual
        </Button>
        <Button
          pressed={ui.span !== null}
          onClick={() => {
            const { frames } = track;
            const first = Math.max(frames[0]!, ui.frame - SPAN_FRAMES);
            const last = Math.min(frames[frames.length - 1]!, ui.frame + SPAN_FRAMES);
            ui.set(
              ui.span ? { span: null } : { span: [first, last], loop: true, playing: 1, flatShown: true },
            );
          }}
          title="Play the frames around here over and over (Shift+L); hold Z for a lens"
        >
          Loop around here
        </Button>
      </div>
      <div className="mt-1.5 flex items-center justify-between gap-2">
        <span className="text-dim">
          {worst ? (
            <>
              Way back: off by <b className="num text-ink">{worst.px.toFixed(2)} px</b> at most, on frame{" "}
              <button
                className="num text-ink underline"
                onClick={() => ui.set({ frame: worst.frame, playing: 0 })}
              >
                {worst.frame}
              </button>
            </>
          ) : (
            "Way back: not measured"
          )}
        </span>
        <Button
          onClick={onMeasure}
          title="Follow back from where the track ends, and see how far apart the two ways are"
        >
          Measure
        </Button>
      </div>
    </Section>
  );
}
