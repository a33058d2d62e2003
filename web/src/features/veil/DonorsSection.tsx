import { Button, Section } from "../../ui/controls";
import { KeyedField } from "../KeyedField";
import type { Pair, Value, Veil } from "../recipe";
import { donorsOf, withDonors, withOneMore, type DonorPlace } from "./donors";

const FIELDS = [
  { name: "x", label: "Across", low: -4000, high: 4000, step: 1, unit: "px", standard: 0 },
  { name: "y", label: "Down", low: -4000, high: 4000, step: 1, unit: "px", standard: 0 },
  { name: "size", label: "Size", low: 0.2, high: 5, step: 0.01, unit: "x", standard: 1 },
  { name: "turn", label: "Turn", low: -180, high: 180, step: 1, unit: "deg", standard: 0 },
] as const;

/** Where live skin is taken from: found, placed by hand, or shared between several places. */
export function DonorsSection({
  veil,
  note,
  onChange,
}: {
  veil: Veil;
  note:
    { ready: boolean; laid: boolean; why: string; donor?: number[] | null; others: number[][] } | undefined;
  onChange: (params: Veil["params"], label: string) => void;
}) {
  const donor = veil.params?.donor as Pair | undefined;
  const donors = donorsOf(veil);
  const setDonor = (step: number[] | null) => {
    const next = { ...veil.params };
    if (step) next.donor = step;
    else delete next.donor;
    onChange(next, "Donor");
  };
  const setDonors = (next: DonorPlace[], label: string) => onChange(withDonors(veil, next).params, label);
  const used = donor ?? (note?.donor as Pair | undefined);
  if (!note?.ready)
    return (
      <Section title="Skin">
        <p className="text-dim">
          {note?.laid ? "Looking for clean skin near by." : `Waits until ${veil.drape} has been followed.`}
        </p>
      </Section>
    );
  if ((veil.params?.way ?? "donor") !== "donor")
    return (
      <Section title="Skin">
        <p className="text-dim select-text">Taken from {note.why}</p>
      </Section>
    );
  return (
    <Section title="Skin">
      {donors.length === 0 && (
        <>
          <p className="mb-1.5 text-dim select-text">
            {donor ? "Taken from where you placed it." : <>Taken from {note.why}</>}
          </p>
          <div className="flex flex-wrap gap-1">
            {donor && <Button onClick={() => setDonor(null)}>Find it for me</Button>}
            {note.others.slice(0, 4).map((o, i) => (
              <Button
                key={i}
                onClick={() => setDonor(o)}
                title="Another place that suits; the ring in the picture can be dragged too"
              >
                <span className="num">
                  {o[0]}, {o[1]}
                </span>
              </Button>
            ))}
          </div>
        </>
      )}
      {donors.map((place, i) => (
        <fieldset key={i} className="mb-1.5 border-l-2 border-line pl-2" aria-label={`Donor ${i + 1}`}>
          <div className="flex items-center justify-between">
            <span>
              Place <span className="num">{i + 1}</span>
            </span>
            <Button
              kind="quiet"
              label={`Remove donor ${i + 1}`}
              onClick={() =>
                setDonors(
                  donors.filter((_, j) => j !== i),
                  "Remove a donor",
                )
              }
            >
              x
            </Button>
          </div>
          {FIELDS.map(({ name, ...field }) => (
            <KeyedField
              key={name}
              value={(place[name] as Value | undefined) ?? field.standard}
              onChange={(v) =>
                setDonors(
                  donors.map((d, j) => (j === i ? { ...d, [name]: v } : d)),
                  `Donor ${i + 1}`,
                )
              }
              {...field}
            />
          ))}
        </fieldset>
      ))}
      {used && donors.length < 12 && (
        <div className="mt-1">
          <Button
            onClick={() => setDonors(withOneMore(veil, used), "Add a donor")}
            title="Several places share the mark: each covers the side that it lies on"
          >
            Add a place
          </Button>
        </div>
      )}
      <p className="mt-1 text-[12px] text-dim">
        Drag a dashed ring in a view to take the skin from elsewhere.
      </p>
    </Section>
  );
}
