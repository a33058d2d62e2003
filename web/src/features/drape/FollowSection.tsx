import { useMemo } from "react";
import type { Schema } from "../../api/client";
import { useUi } from "../../app/store";
import { Button, Section, Switch } from "../../ui/controls";
import { statusAt } from "../../viewer/surface";
import { useStartJob, type Track } from "../queries";
import { referenceOf, type Drape, type Recipe } from "../recipe";
import { worstFrames } from "./model";

/** Following a drape, or all of them, and how it went. */
export function FollowSection({
  shot,
  recipe,
  drape,
  track,
  onLock,
}: {
  shot: Schema["Shot"];
  recipe: Recipe;
  drape: Drape;
  track: Track | null | undefined;
  onLock: (locked: boolean) => void;
}) {
  const ui = useUi();
  const start = useStartJob(shot.id);
  const reference = referenceOf(drape);
  const free = recipe.drapes.filter((d) => !d.locked);
  const follow = (first: number, last: number, again = false) =>
    void start({ kind: "follow", drape: drape.name, first, last, again });
  const followEvery = async () => {
    for (const { name } of free)
      await start({ kind: "follow", drape: name, first: shot.in_frame, last: shot.out_frame });
  };
  return (
    <Section title="Follow">
      <div className="mb-1.5 flex flex-wrap gap-1.5">
        <Button kind="main" onClick={() => follow(shot.in_frame, shot.out_frame)}>
          Follow all frames
        </Button>
        <Button
          onClick={() => follow(shot.in_frame, reference)}
          title="From the reference back to the in frame"
        >
          Backwards
        </Button>
        <Button
          onClick={() => follow(reference, shot.out_frame)}
          title="From the reference on to the out frame"
        >
          Forwards
        </Button>
        <Button
          onClick={() => follow(Math.min(ui.frame, reference), Math.max(ui.frame, reference))}
          title="From what is known up to the frame that is seen"
        >
          To here
        </Button>
        <Button
          disabled={drape.locked}
          onClick={() => follow(shot.in_frame, shot.out_frame, true)}
          title="Forget what has been followed and begin anew"
        >
          Again
        </Button>
        {recipe.drapes.length > 1 && (
          <Button
            disabled={free.length === 0}
            onClick={() => void followEvery()}
            title="Every drape of this shot that is not locked, one after the other"
          >
            Every drape
          </Button>
        )}
      </div>
      <Switch
        label="Locked"
        help="It stays as it is: it is not followed anew, and nothing that it is followed by can be changed."
        checked={drape.locked ?? false}
        onChange={onLock}
      />
      <Switch
        label="Try while scrubbing"
        help="On frames that have not been followed, shows where the motion of every pixel alone would take it. Nothing of it is kept."
        checked={ui.drafting}
        onChange={(drafting) => ui.set({ drafting })}
      />
      <TrackSummary track={track} here={statusAt(track, ui.frame)} />
    </Section>
  );
}

function TrackSummary({
  track,
  here,
}: {
  track: Track | null | undefined;
  here: { status: string; error: number | null };
}) {
  const ui = useUi();
  const counts = useMemo(() => {
    const found: Record<string, number> = {};
    for (const s of track?.status ?? []) found[s] = (found[s] ?? 0) + 1;
    return Object.entries(found);
  }, [track]);
  if (!track) return <p className="text-dim">Not followed since its last change. The outline is kept.</p>;
  return (
    <p className="text-dim">
      <span className="num text-ink">{track.frames.length}</span> frames followed:{" "}
      {counts.map(([s, n]) => `${n} ${s}`).join(", ")}. On frame <span className="num">{ui.frame}</span>:{" "}
      {here.status}
      {here.error !== null && (
        <>
          , two thirds within <span className="num text-ink">{here.error.toFixed(2)} px</span>
        </>
      )}
      .
    </p>
  );
}

export function NeedsALook({ track }: { track: Track }) {
  const ui = useUi();
  const worst = worstFrames(track, 8);
  if (worst.length === 0)
    return (
      <Section title="Needs a look">
        <p className="text-verdigris">● Nothing: every frame holds.</p>
      </Section>
    );
  return (
    <Section title="Needs a look">
      <div className="flex flex-wrap gap-1">
        {worst.map((w) => (
          <Button
            key={w.frame}
            onClick={() => ui.set({ frame: w.frame, playing: 0 })}
            title={`${w.status}, within ${w.error.toFixed(1)} px`}
          >
            <span className={w.status === "weak" ? "text-saffron" : "text-fail"} aria-hidden>
              {w.status === "weak" ? "▲" : "■"}
            </span>{" "}
            <span className="num">{w.frame}</span>
          </Button>
        ))}
      </div>
    </Section>
  );
}
