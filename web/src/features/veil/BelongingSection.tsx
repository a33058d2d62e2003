import { useQuery } from "@tanstack/react-query";
import { useUi } from "../../app/store";
import type { Schema } from "../../api/client";
import { Button, Section } from "../../ui/controls";
import { curvesQuery, useStartJob } from "../queries";
import { curveLines } from "./curve";

const SIZE = [132, 26] as const;
const CURVES = [
  { name: "light", label: "Light", unit: "stops", help: "Above the reference frame" },
  { name: "grain", label: "Grain", unit: "%", help: "Its strength, of full scale" },
  { name: "focus", label: "Focus", unit: "px", help: "Blur beyond the reference frame's" },
  { name: "motion", label: "Motion", unit: "px", help: "Travelled while the shutter is open" },
] as const;

/** What the patch follows on every frame, as curves over the shot; a press on one goes to that frame. */
export function BelongingSection({ shot, drape }: { shot: Schema["Shot"]; drape: string }) {
  const { data: curves } = useQuery(curvesQuery(shot.id, drape));
  const start = useStartJob(shot.id);
  const frame = useUi((s) => s.frame);
  const set = useUi((s) => s.set);
  const range = [shot.facts.first_frame, shot.facts.last_frame] as const;
  const count = range[1] - range[0] + 1;
  const here = ((frame - range[0] + 0.5) / count) * SIZE[0];
  return (
    <Section title="What it follows">
      {curves ? (
        CURVES.map(({ name, label, unit, help }) => {
          const value = curves[name][frame];
          return (
            <div key={name} className="flex items-center justify-between gap-2 py-0.5" title={help}>
              <span className="w-12">{label}</span>
              <svg
                role="img"
                aria-label={`${label} over the shot`}
                width={SIZE[0]}
                height={SIZE[1]}
                className="cursor-pointer rounded-sm bg-ground"
                onClick={(e) => {
                  const x = e.clientX - e.currentTarget.getBoundingClientRect().left;
                  const to = range[0] + Math.floor((x / SIZE[0]) * count);
                  set({ frame: Math.min(range[1], Math.max(range[0], to)), playing: 0 });
                }}
              >
                {curveLines(curves[name], range, SIZE).map((points, i) => (
                  <polyline
                    key={i}
                    points={points}
                    className="fill-none stroke-verdigris"
                    strokeWidth={1.3}
                  />
                ))}
                <line x1={here} x2={here} y1={0} y2={SIZE[1]} className="stroke-madder" strokeWidth={1} />
              </svg>
              <span className="num w-20 text-right whitespace-nowrap">
                {value === undefined ? "not seen" : value.toFixed(2)} <span className="text-dim">{unit}</span>
              </span>
            </div>
          );
        })
      ) : (
        <div className="flex items-center justify-between gap-2">
          <span className="text-dim">Light, grain, focus and motion of the surface, not read yet.</span>
          <Button onClick={() => void start({ kind: "belonging", drape })}>Read them</Button>
        </div>
      )}
    </Section>
  );
}
