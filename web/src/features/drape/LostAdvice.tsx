import { useQuery } from "@tanstack/react-query";
import type { Schema } from "../../api/client";
import { useUi } from "../../app/store";
import { Button, Section } from "../../ui/controls";
import { partsQuery, type Track } from "../queries";
import { drapeOutline, referenceOf, type Drape, type Pair } from "../recipe";
import { isWithin, longestLost } from "./model";

const LONG = 5; // frames: shorter gaps are closed from both ends

/** What to do where a surface is lost for long: a face may lead, or a second reference may be set. */
export function LostAdvice({
  shot,
  drape,
  track,
  onFace,
}: {
  shot: Schema["Shot"];
  drape: Drape;
  track: Track;
  onFace: () => void;
}) {
  const set = useUi((s) => s.set);
  const lost = longestLost(track);
  const asked = lost !== null && lost[1] - lost[0] + 1 >= LONG;
  const byMesh = (drape.follower?.kind ?? "mesh") === "mesh";
  const { data: faces } = useQuery({ ...partsQuery(shot.id, referenceOf(drape)), enabled: asked && byMesh });
  if (!asked) return null;
  const [first, last] = lost;
  const middle = Math.round((first + last) / 2);
  const points = drapeOutline(drape).points as Pair[];
  // What was once asked is remembered, also when the face leads already.
  const onAFace =
    byMesh &&
    ((faces ?? []) as Record<string, Pair[]>[]).some((face) => isWithin(points, Object.values(face).flat()));
  return (
    <Section title={`Lost on frames ${first} to ${last}`}>
      {onAFace && (
        <>
          <p className="mb-1 text-[12px] text-dim">
            It lies on a face, which can lead it while it is not seen.
          </p>
          <Button onClick={onFace}>Let the face lead</Button>
        </>
      )}
      <p className="my-1 text-[12px] text-dim">
        {onAFace ? "Or go" : "Go"} there, add the frame to the references, and drag the outline to where the
        surface is: it is then followed from both.
      </p>
      <Button onClick={() => set({ frame: middle, playing: 0 })}>
        Go to <span className="num">{middle}</span>
      </Button>
    </Section>
  );
}
