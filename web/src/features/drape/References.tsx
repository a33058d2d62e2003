import { useQuery } from "@tanstack/react-query";
import { useUi } from "../../app/store";
import { pair } from "../../geometry/points";
import { Button } from "../../ui/controls";
import { carried, frameFromRef, statusAt } from "../../viewer/surface";
import { positionsQuery, type Track } from "../queries";
import { drapeOutline, referenceOf, writeOutline, type Drape } from "../recipe";
import { isSeen } from "./model";
import { asFollowed, drawnOn, withReferences } from "./outlines";

/** The frames from which a drape is followed: the main one, where its outline is drawn, and others. */
export function References({
  shot,
  drape,
  track,
  onChange,
}: {
  shot: number;
  drape: Drape;
  track: Track | null | undefined;
  /** `follow`: nothing is left to draw, so that it can be followed at once. */
  onChange: (changed: Drape, label: string, follow: boolean) => void;
}) {
  const ui = useUi();
  const { data: positions } = useQuery(positionsQuery(shot, drape.name, track?.token));
  const outline = drapeOutline(drape);
  const label = `References of ${drape.name}`;
  const moveHere = () =>
    onChange(
      { ...drape, reference_frames: [ui.frame], tacks: [], outline: { [ui.frame]: writeOutline(outline) } },
      `Reference of ${drape.name} to ${ui.frame}`,
      false,
    );
  const alsoHere = () => {
    const frames = [...drape.reference_frames, ui.frame];
    if (isSeen(statusAt(track, ui.frame).status)) return onChange(withReferences(drape, frames), label, true);
    // It is not seen here: a hand has to say where it is, from where it was last taken to be.
    const map = frameFromRef({ track, positions }, drape, ui.frame);
    const points = map ? carried(outline, map).map(pair) : outline.points;
    onChange(
      withReferences(drape, frames, { [ui.frame]: writeOutline({ ...outline, points }) }),
      label,
      false,
    );
  };
  return (
    <>
      {drape.reference_frames.map((frame, i) => (
        <div key={frame} className="py-0.5">
          <div className="flex items-center justify-between">
            <span>
              {i === 0 ? "Reference frame" : "also on"} <b className="num">{frame}</b>
            </span>
            <span className="flex gap-1">
              <Button onClick={() => ui.set({ frame, playing: 0 })}>Go</Button>
              {i > 0 && (
                <Button
                  onClick={() =>
                    onChange(
                      withReferences(
                        drape,
                        drape.reference_frames.filter((f) => f !== frame),
                      ),
                      label,
                      true,
                    )
                  }
                >
                  Remove
                </Button>
              )}
            </span>
          </div>
          {i > 0 && drawnOn(drape, frame) && (
            <div className="flex items-center justify-between text-[12px] text-dim">
              <span>its outline was drawn there</span>
              <Button
                kind="quiet"
                onClick={() => onChange(asFollowed(drape, frame), `Outline as followed on ${frame}`, true)}
                title="Take the outline from where the surface is found, not from where it was drawn"
              >
                As followed
              </Button>
            </div>
          )}
        </div>
      ))}
      {drape.reference_frames.includes(ui.frame) && ui.frame !== referenceOf(drape) && (
        <p className="text-[12px] text-dim">
          Drag the outline to where the surface is on this frame: it is followed from there as well.
        </p>
      )}
      <div className="flex gap-1.5 py-0.5">
        <Button
          onClick={moveHere}
          disabled={ui.frame === referenceOf(drape)}
          title="Use the frame that is seen as the reference, with the same outline"
        >
          Move here
        </Button>
        <Button
          onClick={alsoHere}
          disabled={drape.reference_frames.includes(ui.frame)}
          title="Follow from the frame that is seen as well; between two references the surface is shared out"
        >
          Also from here
        </Button>
      </div>
    </>
  );
}
