import { useState } from "react";
import { api, taken, type Schema } from "../../api/client";
import { useUi } from "../../app/store";
import { Button, Section } from "../../ui/controls";

/** The head's pose from its firm points, and how far to believe it. */
export function HeadSection({ shot, drape }: { shot: number; drape: string }) {
  const [head, setHead] = useState<Schema["HeadFacts"] | null>(null);
  const frame = useUi((s) => s.frame);
  const set = useUi((s) => s.set);
  const solve = async () => {
    try {
      const path = { shot, drape };
      setHead(await taken(api.GET("/api/shots/{shot}/drapes/{drape}/head", { params: { path } })));
    } catch (e) {
      set({ fault: e instanceof Error ? e.message : String(e) });
    }
  };
  const turn = head?.turn[head.frames.indexOf(frame)];
  const mark = { "very good": "●", good: "●", fair: "▲", bad: "■" } as const;
  const colour = {
    "very good": "text-verdigris",
    good: "text-verdigris",
    fair: "text-saffron",
    bad: "text-fail",
  } as const;
  return (
    <Section title="Head">
      {head ? (
        <p className="text-dim select-text">
          <span className={colour[head.judgement]}>
            {mark[head.judgement]} {head.judgement}
          </span>
          : reprojection error{" "}
          <b className="num text-ink">
            {head.average_px === null ? "none" : `${head.average_px.toFixed(2)} px`}
          </b>{" "}
          from {head.points} firm points, focal length{" "}
          <span className="num">{head.focal_px.toFixed(0)} px</span>. Worst: {head.worst},{" "}
          <span className="num">{head.worst_px.toFixed(2)} px</span>.
          {turn && (
            <>
              {" "}
              Here turned by <span className="num">{turn.map((v) => v.toFixed(1)).join(", ")}</span> degrees
              (yaw, pitch, roll).
            </>
          )}
        </p>
      ) : (
        <p className="text-dim">Near .25 px is very good, above 3 px is bad.</p>
      )}
      <div className="mt-1">
        <Button onClick={() => void solve()}>Solve the head's pose</Button>
      </div>
    </Section>
  );
}
