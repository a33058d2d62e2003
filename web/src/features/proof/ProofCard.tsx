import { useQuery } from "@tanstack/react-query";
import type { Schema } from "../../api/client";
import { useUiAside } from "../../app/store";
import { Button, Section, Verdict } from "../../ui/controls";
import { proofQuery, useStartJob } from "../queries";
import { lookAt } from "./model";

const FIGURES: { name: string; label: string; unit: string; ideal: string }[] = [
  { name: "seam", label: "Seam", unit: "x", ideal: "1 or less: the border is no steeper than skin" },
  { name: "grain", label: "Grain", unit: "x", ideal: "1: as much fine contrast inside as around" },
  { name: "tone", label: "Tone", unit: "dE", ideal: "0: the mean inside is what the surroundings promise" },
  {
    name: "flicker",
    label: "Flicker",
    unit: "%",
    ideal: "0: the patch does not jump against its surroundings",
  },
  {
    name: "slide",
    label: "Slide",
    unit: "px",
    ideal: "0: two thirds of the surface lie within this of the track",
  },
];

export function ProofCard({ shot, veils }: { shot: Schema["Shot"]; veils: number }) {
  const { data: proof } = useQuery(proofQuery(shot.id));
  const start = useStartJob(shot.id);
  const measure = (
    <Button kind="main" disabled={veils === 0} onClick={() => void start({ kind: "prove" })}>
      Measure frames {shot.in_frame} to {shot.out_frame}
    </Button>
  );
  if (!proof)
    return (
      <Section title="Proof">
        <p className="mb-2 text-dim">
          {veils === 0
            ? "There is no veil to prove yet. Take a spot off first."
            : "Not measured for this state. Measuring composes every frame of the range and looks at seam, grain, tone, flicker and slide."}
        </p>
        {measure}
      </Section>
    );
  return (
    <>
      <Section title="Verdict">
        <p className="mb-1 text-[15px]">
          <Verdict verdict={proof.verdict} />
        </p>
        <p className="text-dim">
          {proof.untouched_pixels_that_differ === 0
            ? "Outside the mattes every pixel is the source's, bit for bit."
            : `${proof.untouched_pixels_that_differ} pixels outside the mattes differ; please report this.`}
        </p>
      </Section>
      {Object.entries(proof.veils).map(([name, veil]) => (
        <VeilProof key={name} name={name} veil={veil} />
      ))}
      <Section title="Not built yet">
        <p className="text-[12px] text-dim">Comparison of two revisions.</p>
      </Section>
    </>
  );
}

function VeilProof({ name, veil }: { name: string; veil: Schema["VeilProof"] }) {
  const ui = useUiAside();
  const worst = lookAt(veil.frames, 8);
  const gaps = Object.keys(veil.not_laid).map(Number);
  return (
    <Section title={name} aside={<Verdict verdict={veil.verdict} />}>
      {veil.coverage && <CoverageProof coverage={veil.coverage} />}
      <table className="w-full">
        <tbody>
          {FIGURES.filter((f) => veil.medians[f.name] !== undefined).map((f) => (
            <tr key={f.name} title={f.ideal}>
              <td className="py-px text-dim">{f.label}</td>
              <td className="num py-px text-right">{veil.medians[f.name]?.toFixed(2) ?? "-"}</td>
              <td className="w-7 pl-1 text-[11px] text-dim">{f.unit}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {veil.advice.map((a) => (
        <p key={a} className="text-[12px] text-saffron">
          ▲ {a}
        </p>
      ))}
      {gaps.length > 0 && (
        <p className="text-[12px] text-saffron">
          Not laid on {gaps.length} frames, first on {gaps[0]}.
        </p>
      )}
      {worst.length > 0 && (
        <div className="mt-1 flex flex-wrap gap-1">
          {worst.map((f) => (
            <Button key={f.frame} onClick={() => ui.set({ frame: f.frame, playing: 0 })}>
              <Verdict verdict={f.verdict} word={String(f.frame)} />
            </Button>
          ))}
        </div>
      )}
    </Section>
  );
}

/** Whether everybody who is to be hidden is hidden, and where to look if not. */
function CoverageProof({ coverage }: { coverage: NonNullable<Schema["VeilProof"]["coverage"]> }) {
  const ui = useUiAside();
  const faces = new Set(coverage.frames.flatMap((f) => Object.keys(f.faces)));
  const places = (frames: readonly number[]) => (
    <span className="flex flex-wrap gap-1">
      {frames.slice(0, 8).map((f) => (
        <Button key={f} onClick={() => ui.set({ frame: f, playing: 0 })}>
          <span className="num">{f}</span>
        </Button>
      ))}
      {frames.length > 8 && <span className="self-center text-dim">and {frames.length - 8} more</span>}
    </span>
  );
  return (
    <div className="mb-1">
      <p>
        {coverage.frames_bared.length === 0 ? (
          <>
            {faces.size === 1 ? "One face is" : `${faces.size} faces are`} covered whole on all{" "}
            <span className="num">{coverage.frames.length}</span> frames on which they may be seen.
          </>
        ) : (
          <span className="text-fail">
            ■ Part of a face is bared on {coverage.frames_bared.length} frames; at worst{" "}
            <span className="num">{Math.round(100 * coverage.least_share)}</span> % is covered.
          </span>
        )}
      </p>
      {places(coverage.frames_bared)}
      <p className={coverage.frames_found_again.length > 0 ? "text-saffron" : "text-dim"}>
        {coverage.frames_found_again.length === 0
          ? "No face finder sees a face at these places in the result."
          : `▲ A face finder takes the result for a face on ${coverage.frames_found_again.length === 1 ? "one frame" : `${coverage.frames_found_again.length} frames`}:`}
      </p>
      {places(coverage.frames_found_again)}
    </div>
  );
}
