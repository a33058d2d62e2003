import { useQuery } from "@tanstack/react-query";
import type { Schema } from "../../api/client";
import { now, useUiAside } from "../../app/store";
import { Button, Section } from "../../ui/controls";
import { cacheQuery, statsQuery } from "../queries";
import { MeasureShot } from "./MeasureShot";

export function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div className="flex justify-between gap-3 py-px">
      <span className="text-dim">{name}</span>
      <span className="num text-right">{children}</span>
    </div>
  );
}

export function ShotCard({
  shot,
  setRange,
}: {
  shot: Schema["Shot"];
  setRange: (a: number, b: number) => void;
}) {
  const { data: stats } = useQuery(statsQuery(shot.id));
  const ui = useUiAside();
  const f = shot.facts;
  return (
    <>
      {shot.note && (
        <Section title="The note">
          <p className="select-text">{shot.note}</p>
        </Section>
      )}
      <Section title="Reference frames that suggest themselves">
        {stats ? (
          <ul className="flex flex-col gap-1">
            {stats.proposals.map((p) => (
              <li key={p.frame} className="flex items-start gap-2">
                <Button onClick={() => ui.set({ frame: p.frame, playing: 0 })}>
                  <span className="num">{p.frame}</span>
                </Button>
                <span className="text-[12px] text-dim">{p.why}</span>
              </li>
            ))}
          </ul>
        ) : (
          <MeasureShot shot={shot.id}>Measure the shot</MeasureShot>
        )}
      </Section>
      <Section title="What needs work">
        <div className="flex items-center gap-1.5">
          <Button onClick={() => setRange(now().frame, Math.max(now().frame, shot.out_frame))}>
            In here
          </Button>
          <Button onClick={() => setRange(Math.min(now().frame, shot.in_frame), now().frame)}>
            Out here
          </Button>
          <Button onClick={() => setRange(f.first_frame, f.last_frame)}>All</Button>
        </div>
      </Section>
      <Section title="The clip">
        <Fact name="Size">
          {f.width} x {f.height}
        </Fact>
        <Fact name="Rate">{f.rate} fps</Fact>
        <Fact name="Frames">
          {f.first_frame} to {f.last_frame} ({f.frame_count})
        </Fact>
        <Fact name="Timecode">{shot.timecodes[0]}</Fact>
        <Fact name="Encoding">
          {f.codec}, {f.pixel_format}, {f.bits} bit
        </Fact>
        {Object.entries(f.colour).map(([name, value]) => (
          <Fact key={name} name={name[0]!.toUpperCase() + name.slice(1)}>
            {value}
          </Fact>
        ))}
        {f.pixel_aspect !== "1" && <Fact name="Pixel aspect">{f.pixel_aspect}</Fact>}
        {f.warnings.map((w) => (
          <p key={w} className="mt-1 text-[12px] text-saffron">
            ▲ {w}
          </p>
        ))}
      </Section>
      <CacheSection />
    </>
  );
}

const KIND_NAMES: Record<string, string> = {
  view: "Original frames for looking",
  frame: "Composed frames for looking",
  track: "Tracks",
  prepared: "Donors found",
  stats: "Ribbons",
  proof: "Proofs",
};

function CacheSection() {
  const { data: kinds, refetch } = useQuery(cacheQuery);
  const ui = useUiAside();
  const free = async (kind: string) => {
    await fetch(`/api/cache/${kind}`, { method: "DELETE" });
    ui.say(`${KIND_NAMES[kind] ?? kind} freed`);
    void refetch();
  };
  return (
    <Section
      title="What is computed"
      aside={
        <Button kind="quiet" onClick={() => void refetch()}>
          look again
        </Button>
      }
    >
      {Object.entries(kinds ?? {}).map(([kind, { count, bytes }]) => (
        <div key={kind} className="flex items-center justify-between gap-2">
          <span className="truncate text-dim">{KIND_NAMES[kind] ?? kind}</span>
          <span className="flex items-center gap-1">
            <span className="num" title={`${count} entries`}>
              {(bytes / 1e6).toFixed(1)} MB
            </span>
            <Button kind="quiet" label={`Free ${KIND_NAMES[kind] ?? kind}`} onClick={() => void free(kind)}>
              free
            </Button>
          </span>
        </div>
      ))}
    </Section>
  );
}
