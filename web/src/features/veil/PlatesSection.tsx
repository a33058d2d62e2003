import { useState } from "react";
import { useUi } from "../../app/store";
import { Button, Choice, Section } from "../../ui/controls";
import { ArtworkShelf } from "../artwork/ArtworkShelf";
import type { Veil } from "../recipe";
import { platesOf, withPlate, type Plate } from "./plates";

const FORMS = { png: "16-bit PNG", tif: "16-bit TIFF", exr: "EXR" } as const;

/** Reference frames are sent out, painted elsewhere and brought back; between two of them the nearer counts the more. */
export function PlatesSection({
  veil,
  shot,
  reference,
  onChange,
}: {
  veil: Veil;
  shot: number;
  reference: number;
  onChange: (params: Veil["params"], label: string) => void;
}) {
  const frame = useUi((s) => s.frame);
  const set = useUi((s) => s.set);
  const [forThis, setForThis] = useState(false);
  const plates = platesOf(veil, reference);
  const target = forThis ? frame : reference;
  const change = (plate: Plate) =>
    onChange(withPlate(veil, plate, reference), `Plate of frame ${plate.frame}`);
  const address = `/api/shots/${shot}/drapes/${encodeURIComponent(veil.drape ?? "")}/plate`;

  return (
    <>
      <Section title="Send out to paint">
        <p className="mb-1.5 text-dim">
          Without loss. Paint the mark away, keep the size, and bring it back below.
        </p>
        <SendOut
          title={`Around ${veil.drape}, frame ${reference}`}
          address={(form) => `${address}.${form}`}
        />
        <SendOut title={`The whole frame ${frame}`} address={(form) => `${address}.${form}?frame=${frame}`} />
      </Section>
      <Section title={`Plates: ${plates.length || "none"}`}>
        <ul>
          {plates.map((p) => (
            <li key={p.frame} className="flex items-center justify-between gap-1.5 py-0.5">
              <Button onClick={() => set({ frame: p.frame, playing: 0 })} title="Go to its frame">
                <span className="num">{p.frame}</span>
              </Button>
              <span className="min-w-0 flex-1 truncate">{p.plate}</span>
              <Button
                label={`Leave out the plate of frame ${p.frame}`}
                onClick={() => change({ ...p, plate: "" })}
              >
                Leave out
              </Button>
            </li>
          ))}
        </ul>
        <div className="flex flex-wrap items-center justify-between gap-x-2 py-0.5">
          <span className="text-dim">Choose for</span>
          <Choice
            label="Choose for"
            compact
            value={forThis ? "this" : "reference"}
            options={[
              { value: "reference", text: `reference ${reference}` },
              { value: "this", text: `frame ${frame}`, title: "A plate of this whole frame as well" },
            ]}
            onChange={(v) => setForThis(v === "this")}
          />
        </div>
      </Section>
      <ArtworkShelf
        title="Plate"
        chosen={plates.find((p) => p.frame === target)?.plate ?? ""}
        onChoose={(plate) => change({ frame: target, plate })}
      />
    </>
  );
}

function SendOut({ title, address }: { title: string; address: (form: string) => string }) {
  return (
    <div className="py-1">
      <p className="mb-1">{title}</p>
      <div className="flex gap-1.5">
        {Object.entries(FORMS).map(([form, text]) => (
          <a
            key={form}
            download
            aria-label={`${title}, ${text}`}
            href={address(form)}
            className="rounded border border-line bg-raised px-2 py-1 leading-tight hover:border-edge"
          >
            {text}
          </a>
        ))}
      </div>
    </div>
  );
}
