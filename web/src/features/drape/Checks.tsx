import { useQuery } from "@tanstack/react-query";
import { SPAN_FRAMES, STUCK, useUi, useUiAside } from "../../app/store";
import { Button, Choice, Section, Select } from "../../ui/controls";
import { apartQuery, type Track } from "../queries";
import type { Drape, Recipe } from "../recipe";
import { worstOf } from "./model";

const STUCK_CHOICES = STUCK.map((value) => ({ value, text: value === "none" ? "nothing" : value }));

/** How to judge a track: what is stuck to it, what the follower saw, and whether it finds its way back. */
export function Checks({
  shot,
  recipe,
  drape,
  track,
  onMeasure,
}: {
  shot: number;
  recipe: Recipe;
  drape: Drape;
  track: Track;
  onMeasure: () => void;
}) {
  const ui = useUi();
  const worst = worstOf(track.frames, track.round_trip_px ?? []);
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
      <Compared shot={shot} recipe={recipe} drape={drape} track={track} />
    </Section>
  );
}

const NONE = "nothing";

/** Another drape over the same surface: how far the two are apart, and where. */
function Compared({
  shot,
  recipe,
  drape,
  track,
}: {
  shot: number;
  recipe: Recipe;
  drape: Drape;
  track: Track;
}) {
  const { compared, flatLook, set } = useUiAside();
  const others = recipe.drapes.map((d) => d.name).filter((name) => name !== drape.name);
  const other = compared !== null && others.includes(compared) ? compared : null;
  const { data, error } = useQuery({
    ...apartQuery(shot, drape.name, other ?? "", track.token),
    enabled: other !== null,
  });
  if (others.length === 0) return null;
  const worst = data ? worstOf(data.frames, data.px) : null;
  return (
    <div className="mt-1.5 border-t border-line/50 pt-1">
      <Select
        label="Compare with"
        help="Another drape over the same surface, for example by vectors that were brought in: how far apart the two take it."
        value={other ?? NONE}
        options={[NONE, ...others]}
        onChange={(name) =>
          set({
            compared: name === NONE ? null : name,
            flatLook: name === NONE && flatLook === "apart" ? "same" : flatLook,
          })
        }
      />
      {other !== null && error && <p className="text-saffron">{error.message}</p>}
      {other !== null && worst && (
        <div className="flex items-center justify-between gap-2">
          <span className="text-dim">
            Apart by <b className="num text-ink">{worst.px.toFixed(2)} px</b> at most
            {worst.px > 0 && (
              <>
                , on frame{" "}
                <button
                  className="num text-ink underline"
                  onClick={() => set({ frame: worst.frame, playing: 0 })}
                >
                  {worst.frame}
                </button>
              </>
            )}
          </span>
          <Button
            pressed={flatLook === "apart"}
            onClick={() => set({ flatShown: true, flatLook: flatLook === "apart" ? "same" : "apart" })}
            title="In the flat view: what the two see differently; even grey where they agree"
          >
            See it
          </Button>
        </div>
      )}
    </div>
  );
}
