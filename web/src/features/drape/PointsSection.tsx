import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { useUi } from "../../app/store";
import { ownPoints } from "../../viewer/stuck";
import { Button, Choice, Section } from "../../ui/controls";
import { errorsQuery, positionsQuery, type Track } from "../queries";
import { referenceOf, type Drape } from "../recipe";
import { heldOn, placingsOf, weakest, withoutPlacing, withoutPoint } from "./points";

const MOST_WEAK = 6;

interface Given {
  shot: number;
  drape: Drape;
  onChange: (options: Record<string, unknown>, label: string) => void;
}

/** Points by hand beside those that are found, and how each of them is held. */
export function PointsSection({ shot, drape, track, onChange }: Given & { track: Track | null | undefined }) {
  const { tool, frame, pointClick, set } = useUi();
  const options = drape.follower?.options ?? {};
  const reference = referenceOf(drape);
  const counted = (name: string) => ((options[name] as unknown[] | undefined) ?? []).length;
  const byHand = ["placed", "off", "denser"].some((name) => counted(name) > 0);
  const placing = tool === "point";
  return (
    <Section title={`Points: ${track?.points.length ?? 0} followed`}>
      <div className="flex flex-wrap gap-1.5">
        <Button
          pressed={placing}
          onClick={() => set(placing ? { tool: "none" } : { tool: "point", stuck: "grid", playing: 0 })}
          title="On the reference frame a click places a point; on another, drag a point to where it is"
        >
          {placing ? "Done placing" : "Place points"}
        </Button>
        <Button onClick={() => set({ frame: reference, playing: 0 })} disabled={frame === reference}>
          To the reference
        </Button>
        <Button
          disabled={!byHand}
          onClick={() => {
            const next = { ...options };
            for (const name of ["placed", "off", "denser"]) delete next[name];
            onChange(next, "Points as found");
          }}
        >
          As found
        </Button>
      </div>
      {placing && frame === reference && (
        <div className="mt-1">
          <Choice
            label="A click"
            value={pointClick}
            options={[
              { value: "place", text: "places a point" },
              { value: "denser", text: "denser around" },
            ]}
            onChange={(value) => set({ pointClick: value })}
          />
        </div>
      )}
      {placing && (
        <p className="mt-1 text-[12px] text-saffron">
          {frame !== reference
            ? "Drag a point to where it is on this frame: from here on it is known by how it looks here."
            : pointClick === "place"
              ? "Click to place a point; Shift and click takes the nearest one out."
              : "Click where points should lie closer; Shift and click takes that back."}
        </p>
      )}
      <p className="mt-1 text-dim">
        By hand: {counted("placed")} placed, {counted("off")} out, denser around {counted("denser")}.
      </p>
      {track && <Held shot={shot} drape={drape} track={track} onChange={onChange} />}
      {placingsOf(options).map((placed, i) => (
        <div key={i} className="mt-1 flex items-center justify-between">
          <span className="text-dim">
            placed again on <b className="num text-ink">{placed.frame}</b>
          </span>
          <span className="flex gap-1">
            <Button onClick={() => set({ frame: placed.frame, playing: 0 })}>Go</Button>
            <Button onClick={() => onChange(withoutPlacing(options, i), "Placing removed")}>Remove</Button>
          </span>
        </div>
      ))}
    </Section>
  );
}

/** How many points are held on this frame, and those that are held the least. */
function Held({ shot, drape, track, onChange }: Given & { track: Track }) {
  const { frame, set } = useUi();
  const { data: errors } = useQuery(errorsQuery(shot, drape.name, track.token));
  const { data: positions } = useQuery(positionsQuery(shot, drape.name, track.token));
  const worst = useMemo(() => (errors ? weakest(track, errors, MOST_WEAK) : []), [track, errors]);
  const row = track.rowOf.get(frame);
  if (!errors || row === undefined) return null;
  const held = heldOn(track, errors, row).filter(Boolean).length;
  const homes = ownPoints({ track, positions }, track.rowOf.get(referenceOf(drape)));
  return (
    <>
      <p className="mt-1 text-dim">
        On frame <span className="num">{frame}</span>: <b className="num text-ink">{held}</b> hold by their
        own picture, <b className="num text-ink">{track.points.length - held}</b> are carried by the others,
        or no longer sure.
      </p>
      {worst.map(({ index, held: on, lost }) => (
        <div key={index} className="mt-1 flex items-center justify-between">
          <span className="text-dim">
            point <span className="num text-ink">{index + 1}</span> holds on <span className="num">{on}</span>{" "}
            of <span className="num">{track.frames.length}</span>
          </span>
          <span className="flex gap-1">
            <Button onClick={() => set({ frame: lost, playing: 0 })} title="Where it is lost first">
              Go
            </Button>
            <Button
              label={`Take point ${index + 1} out`}
              disabled={!homes[index]}
              onClick={() =>
                onChange(withoutPoint(drape.follower?.options ?? {}, homes[index]!), "Point out")
              }
            >
              Out
            </Button>
          </span>
        </div>
      ))}
    </>
  );
}
