import { useUi } from "../../app/store";
import { Button, Section } from "../../ui/controls";
import type { Track } from "../queries";
import { longestLost } from "./model";

const LONG = 5; // frames: shorter gaps are closed from both ends

/** What to do where a surface is lost for long: a second reference may be set. */
export function LostAdvice({ track }: { track: Track }) {
  const set = useUi((s) => s.set);
  const lost = longestLost(track);
  if (lost === null || lost[1] - lost[0] + 1 < LONG) return null;
  const [first, last] = lost;
  const middle = Math.round((first + last) / 2);
  return (
    <Section title={`Lost on frames ${first} to ${last}`}>
      <p className="my-1 text-[12px] text-dim">
        Go there, add the frame to the references, and drag the outline to where the surface is: it is then
        followed from both.
      </p>
      <Button onClick={() => set({ frame: middle, playing: 0 })}>
        Go to <span className="num">{middle}</span>
      </Button>
    </Section>
  );
}
