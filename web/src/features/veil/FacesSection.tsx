import { useQuery } from "@tanstack/react-query";
import { facesQuery, useStartJob } from "../queries";
import { Button, Section } from "../../ui/controls";

const WHOM = [
  { value: "outline", text: "This outline" },
  { value: "all faces", text: "All faces" },
  { value: "all but chosen", text: "All but chosen" },
  { value: "chosen", text: "Chosen faces" },
] as const;

interface Props {
  shot: number;
  whom: string;
  chosen: readonly string[];
  hasOutline: boolean;
  why: string;
  onChange: (whom: string, chosen: readonly string[]) => void;
}

/** Who is hidden: everybody found in the shot, some of them, or an outline. */
export function FacesSection({ shot, whom, chosen, hasOutline, why, onChange }: Props) {
  const { data: faces } = useQuery(facesQuery(shot));
  const start = useStartJob(shot);
  const choosing = whom === "chosen" || whom === "all but chosen";
  const hidden = (name: string): boolean =>
    whom === "all faces" || (whom === "chosen" ? chosen.includes(name) : choosing && !chosen.includes(name));
  const flip = (name: string) =>
    onChange(whom, chosen.includes(name) ? chosen.filter((n) => n !== name) : [...chosen, name]);
  return (
    <Section title="Whom">
      <div role="radiogroup" aria-label="Whom" className="grid grid-cols-2 gap-1">
        {WHOM.filter((w) => hasOutline || w.value !== "outline").map((w) => (
          <button
            key={w.value}
            role="radio"
            aria-checked={w.value === whom}
            onClick={() => onChange(w.value, chosen)}
            className={`rounded border px-2 py-1 ${w.value === whom ? "border-madder bg-raised text-bright" : "border-line text-dim hover:text-ink"}`}
          >
            {w.text}
          </button>
        ))}
      </div>
      {whom !== "outline" && (
        <div className="mt-2">
          {faces === null && (
            <div className="flex items-center justify-between gap-2">
              <span className="text-dim">Faces have not been looked for yet.</span>
              <Button onClick={() => void start({ kind: "faces" })}>Look for faces</Button>
            </div>
          )}
          {faces?.length === 0 && <p className="text-dim">No face was found in the whole shot.</p>}
          <ul className="flex flex-col gap-1">
            {faces?.map((f) => (
              <li key={f.name} className="flex items-center gap-2">
                <img
                  src={`/api/shots/${shot}/faces/${encodeURIComponent(f.name)}.png`}
                  alt={f.name}
                  className="size-10 rounded border border-line object-cover"
                />
                <span className="min-w-0 flex-1">
                  <span className="block">{f.name}</span>
                  <span className="num block text-[11px] text-dim">
                    found {f.found}, held {f.status.filter((s) => s === "held").length}
                  </span>
                </span>
                <span className={hidden(f.name) ? "text-verdigris" : "text-dim"}>
                  {hidden(f.name) ? "● hidden" : "shown"}
                </span>
                {choosing && (
                  <Button
                    pressed={chosen.includes(f.name)}
                    label={`Choose ${f.name}`}
                    onClick={() => flip(f.name)}
                  >
                    {chosen.includes(f.name) ? "Chosen" : "Choose"}
                  </Button>
                )}
              </li>
            ))}
          </ul>
        </div>
      )}
      {why && <p className="mt-1.5 text-[12px] text-dim select-text">{why}</p>}
    </Section>
  );
}
