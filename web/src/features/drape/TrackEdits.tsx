import { useRef } from "react";
import { api, taken, type Schema } from "../../api/client";
import { now, useUi } from "../../app/store";
import { Button, Section } from "../../ui/controls";
import { referenceOf, type Drape, type Tack } from "../recipe";

/** Frames on which what has been followed is not to be believed. */
export function Forgotten({
  shot,
  drape,
  onChange,
}: {
  shot: Schema["Shot"];
  drape: Drape;
  onChange: (spans: [number, number][]) => void;
}) {
  const set = useUi((s) => s.set);
  const spans = drape.forgotten ?? [];
  const reference = referenceOf(drape);
  const forget = (which: "before" | "here" | "after") => {
    const frame = now().frame;
    if (frame === reference)
      return set({ fault: "The reference frame is always known; go to a frame before or after it." });
    const first = which === "before" ? shot.facts.first_frame : frame;
    const last = which === "after" ? shot.facts.last_frame : frame;
    if (first <= reference && reference <= last)
      return set({ fault: "That span holds the reference frame, which is always known." });
    onChange([...spans, [first, last]]);
  };
  return (
    <Section title={`Forgotten: ${spans.length || "none"}`}>
      <div className="flex flex-wrap gap-1.5">
        <Button onClick={() => forget("before")} title="All frames up to this one">
          All before
        </Button>
        <Button onClick={() => forget("here")} title="This frame">
          This frame
        </Button>
        <Button onClick={() => forget("after")} title="All frames from this one on">
          All after
        </Button>
      </div>
      {spans.map(([first, last], i) => (
        <div key={i} className="mt-1 flex items-center justify-between">
          <span className="text-dim">
            frames <span className="num text-ink">{first}</span> to{" "}
            <span className="num text-ink">{last}</span>
          </span>
          <Button onClick={() => onChange(spans.filter((_, j) => j !== i))}>Know again</Button>
        </div>
      ))}
    </Section>
  );
}

/** Point tracks from elsewhere: the surface meets them. */
export function PointsIn({
  shot,
  drape,
  onTacks,
}: {
  shot: number;
  drape: string;
  onTacks: (tacks: Tack[]) => void;
}) {
  const chooser = useRef<HTMLInputElement>(null);
  const set = useUi((s) => s.set);
  const read = async (file: File | undefined) => {
    if (!file) return;
    try {
      const params = { path: { shot, drape } };
      const body = { text: await file.text() };
      const { tacks } = await taken(api.POST("/api/shots/{shot}/drapes/{drape}/points", { params, body }));
      onTacks(tacks as unknown as Tack[]);
    } catch (e) {
      set({ fault: e instanceof Error ? e.message : String(e) });
    }
  };
  return (
    <Section title="Points from elsewhere">
      <Button
        onClick={() => chooser.current?.click()}
        title="CSV with the columns id,frame,x,y, or JSON; the surface is tacked to them"
      >
        Bring points in
      </Button>
      <input
        ref={chooser}
        type="file"
        accept=".csv,.json"
        aria-label="Point tracks"
        className="hidden"
        onChange={(e) => {
          void read(e.target.files?.[0]);
          e.target.value = "";
        }}
      />
    </Section>
  );
}
