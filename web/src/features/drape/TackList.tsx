import { useUi } from "../../app/store";
import { Button, NumberField, Section } from "../../ui/controls";
import { referenceOf, TACK_REACH, TACK_SPAN, type Drape, type Tack } from "../recipe";
import { tackSpan } from "./model";

/** Corrections by hand: where, how far they reach, which frames they change. */
export function TackList({
  drape,
  followed,
  onChange,
}: {
  drape: Drape;
  followed: boolean;
  onChange: (tacks: Tack[], label: string) => void;
}) {
  const ui = useUi();
  const tacks = drape.tacks ?? [];
  const change = (i: number, part: Partial<Tack>) =>
    onChange(
      tacks.map((t, j) => (j === i ? { ...t, ...part } : t)),
      "Edit tack",
    );
  return (
    <Section title={`Tacks: ${tacks.length || "none"}`}>
      <Button
        disabled={!followed}
        pressed={ui.tool === "tack"}
        onClick={() => ui.set({ tool: "tack", playing: 0 })}
        title="Drag a point of the surface to where it is on this frame (C)"
      >
        Tack here
      </Button>
      {tacks.map((tack, i) => {
        const [first, last] = tackSpan(tack, referenceOf(drape));
        return (
          <div key={i} className="mt-1.5 border-t border-line/50 pt-1">
            <div className="flex items-center justify-between">
              <span>
                Frame <b className="num">{tack.frame}</b>{" "}
                <span className="text-dim">
                  changes <span className="num">{first}</span> to <span className="num">{last}</span>
                </span>
              </span>
              <span className="flex gap-1">
                <Button onClick={() => ui.set({ frame: tack.frame, playing: 0 })}>Go</Button>
                <Button
                  onClick={() =>
                    onChange(
                      tacks.filter((_, j) => j !== i),
                      "Remove tack",
                    )
                  }
                >
                  Remove
                </Button>
              </span>
            </div>
            <NumberField
              label="Reach"
              value={tack.reach ?? TACK_REACH}
              step={5}
              unit="px"
              onCommit={(v) => change(i, { reach: Math.max(2, v) })}
            />
            <NumberField
              label="Fades over, frames"
              value={tack.span ?? TACK_SPAN}
              step={1}
              onCommit={(v) => change(i, { span: Math.max(1, Math.round(v)) })}
            />
          </div>
        );
      })}
    </Section>
  );
}
