import { useRef, useState } from "react";
import { api, taken, type Schema } from "../../api/client";
import { now, useUi } from "../../app/store";
import { Button, Choice, NumberField, Section, Switch } from "../../ui/controls";
import { referenceOf, type Drape, type Tack } from "../recipe";

type Span = [number, number];
interface Spans {
  forgotten: Span[];
  crossed: Span[];
}

/** Frames on which what has been followed is not to be believed: forgotten, or carried across from end to end. */
export function Distrusted({
  shot,
  drape,
  onChange,
}: {
  shot: Schema["Shot"];
  drape: Drape;
  onChange: (spans: Spans) => void;
}) {
  const set = useUi((s) => s.set);
  const frame = useUi((s) => s.frame);
  const [from, setFrom] = useState<number | null>(null);
  const spans: Spans = { forgotten: drape.forgotten ?? [], crossed: drape.crossed ?? [] };
  const reference = referenceOf(drape);
  const distrust = (first: number, last: number, how: keyof Spans = "forgotten") => {
    if (drape.reference_frames.some((f) => first <= f && f <= last))
      return set({
        fault:
          first === last
            ? "The reference frame is always known; go to a frame before or after it."
            : "That span holds a reference frame, which is always known.",
      });
    setFrom(null);
    onChange({ ...spans, [how]: [...spans[how], [first, last]] });
  };
  const other = { forgotten: "crossed", crossed: "forgotten" } as const;
  const without = (how: keyof Spans, i: number) => spans[how].filter((_, j) => j !== i);
  const count = spans.forgotten.length + spans.crossed.length;
  const { first_frame, last_frame } = shot.facts;
  return (
    <Section title={`Not believed: ${count || "none"}`}>
      <div className="flex flex-wrap gap-1.5">
        <Button
          onClick={() => distrust(first_frame, now().frame)}
          title="Forget all frames up to this one"
          disabled={frame >= reference}
        >
          All before
        </Button>
        <Button onClick={() => distrust(now().frame, now().frame)} title="Forget this frame">
          This frame
        </Button>
        <Button
          onClick={() => distrust(now().frame, last_frame)}
          title="Forget all frames from this one on"
          disabled={frame <= reference}
        >
          All after
        </Button>
        <Button
          onClick={() => setFrom(from === null ? now().frame : null)}
          pressed={from !== null}
          title="A span, for example a jitter of ten frames: from the frame that is seen"
        >
          A span from here
        </Button>
      </div>
      {from !== null && (
        <div className="mt-1 rounded border border-line p-1.5">
          <NumberField label="From" value={from} low={first_frame} high={last_frame} onCommit={setFrom} />
          <p className="py-0.5 text-dim">
            to the frame that is seen, <span className="num text-ink">{frame}</span>
          </p>
          <div className="flex gap-1.5">
            <Button onClick={() => distrust(Math.min(from, frame), Math.max(from, frame))}>Forget</Button>
            <Button
              onClick={() => distrust(Math.min(from, frame), Math.max(from, frame), "crossed")}
              title="The surface goes from where it is before the span to where it is after it"
            >
              Carry across
            </Button>
          </div>
        </div>
      )}
      {(["forgotten", "crossed"] as const).flatMap((how) =>
        spans[how].map(([first, last], i) => (
          <div key={`${how} ${i}`} className="mt-1 border-t border-line/50 pt-1">
            <div className="flex items-center justify-between">
              <span className="text-dim">
                frames <span className="num text-ink">{first}</span> to{" "}
                <span className="num text-ink">{last}</span>
              </span>
              <Button onClick={() => onChange({ ...spans, [how]: without(how, i) })}>Believe again</Button>
            </div>
            <Switch
              label="Carried across"
              help="Goes from where the surface is before the span to where it is after it. Off: nothing is laid there."
              checked={how === "crossed"}
              onChange={() =>
                onChange({
                  ...spans,
                  [how]: without(how, i),
                  [other[how]]: [...spans[other[how]], [first, last]],
                })
              }
            />
          </div>
        )),
      )}
    </Section>
  );
}

const WHAT = ["points", "corners", "similarity"] as const;

/** Tracks for and from other programs, as plain data. */
export function PlainData({
  shot,
  drape,
  followed,
  onTacks,
}: {
  shot: number;
  drape: string;
  followed: boolean;
  onTacks: (tacks: Tack[]) => void;
}) {
  const chooser = useRef<HTMLInputElement>(null);
  const set = useUi((s) => s.set);
  const [what, setWhat] = useState<(typeof WHAT)[number]>("points");
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
  const send = (form: "csv" | "json") => {
    const link = document.createElement("a");
    link.href = `/api/shots/${shot}/drapes/${encodeURIComponent(drape)}/track.${form}?what=${what}`;
    link.download = "";
    link.click();
  };
  return (
    <Section title="As plain data">
      <Choice
        label="Sent out"
        value={what}
        options={WHAT.map((value) => ({ value, text: value }))}
        onChange={setWhat}
      />
      <div className="mt-1 flex flex-wrap gap-1.5">
        {(["csv", "json"] as const).map((form) => (
          <Button
            key={form}
            disabled={!followed}
            onClick={() => send(form)}
            title="Every followed frame, by the clip's own frame numbers"
          >
            Send {form.toUpperCase()} out
          </Button>
        ))}
        <Button
          onClick={() => chooser.current?.click()}
          title="CSV with the columns id,frame,x,y, or JSON; the surface is tacked to them"
        >
          Bring points in
        </Button>
      </div>
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
