import type { Schema } from "../../api/client";
import { useUiAside } from "../../app/store";
import { Button, Choice, NumberField, Section, Switch, TextField } from "../../ui/controls";
import { useEdit, useStartJob } from "../queries";
import { withHoldout, type Holdout, type Recipe } from "../recipe";
import { RangeRow } from "../RangeRow";
import { ScopeSwitch } from "../ScopeSwitch";

/** What passes in front of the surface: it is not followed, and no veil is laid on it. */
export function HoldoutCard({
  shot,
  recipe,
  holdout,
}: {
  shot: Schema["Shot"];
  recipe: Recipe;
  holdout: Holdout;
}) {
  const ui = useUiAside();
  const edit = useEdit(shot.id);
  const start = useStartJob(shot.id);
  const change = (part: Partial<Holdout>, label: string) =>
    void edit(
      withHoldout(recipe, holdout.name, (h) => ({ ...h, ...part })),
      `${label} of ${holdout.name}`,
    ).then((ok) => {
      if (ok && part.name) ui.set({ selection: { kind: "holdout", name: part.name } });
    });
  const remove = () => {
    const rest = recipe.holdouts.filter((h) => h.name !== holdout.name);
    void edit({ ...recipe, holdouts: rest }, `Remove ${holdout.name}`).then(
      (ok) => ok && ui.set({ selection: { kind: "shot" }, stage: "shot" }),
    );
  };
  const frames = Object.keys(holdout.shapes)
    .map(Number)
    .sort((a, b) => a - b);
  const limited = holdout.before ?? null;
  const touched = recipe.drapes.filter(
    (d) => d.name !== holdout.rides && (limited === null || limited.includes(d.name)),
  );
  return (
    <>
      <Section title="Passes in front">
        <p className="mb-1.5 text-dim">
          Inside this shape the surface is not looked at, and the original comes through. Drag its points in
          the shot view.
        </p>
        <Switch
          label="Held out"
          checked={holdout.enabled !== false}
          onChange={(enabled) => change({ enabled }, enabled ? "On" : "Off")}
        />
        <ScopeSwitch />
        <div className="mt-1 flex gap-1.5">
          <Button
            kind="main"
            disabled={touched.length === 0}
            title="Follow the surfaces it passes in front of once more, around it"
            onClick={async () => {
              for (const d of touched)
                await start({ kind: "follow", drape: d.name, first: shot.in_frame, last: shot.out_frame });
            }}
          >
            Follow around it
          </Button>
        </div>
      </Section>
      <Section title={`Shape: keyed on ${frames.length} frame${frames.length === 1 ? "" : "s"}`}>
        <div className="flex flex-wrap gap-1">
          {frames.map((f) => (
            <span key={f} className="flex">
              <Button onClick={() => ui.set({ frame: f, playing: 0 })} title="Go to this key">
                <span className="num">{f}</span>
              </Button>
              <Button
                kind="quiet"
                label={`Remove the key on ${f}`}
                disabled={frames.length === 1}
                onClick={() =>
                  change(
                    {
                      shapes: Object.fromEntries(
                        Object.entries(holdout.shapes).filter(([k]) => Number(k) !== f),
                      ),
                    },
                    "Key",
                  )
                }
              >
                x
              </Button>
            </span>
          ))}
        </div>
        <NumberField
          label="Feather"
          help="How softly the veils begin around it."
          value={holdout.feather ?? 2}
          standard={2}
          low={0}
          high={200}
          step={0.5}
          unit="px"
          onCommit={(feather) => change({ feather }, "Feather")}
        />
      </Section>
      <Section title="Where and when">
        <Choice
          label="Rides on"
          value={holdout.rides ?? ""}
          options={[
            { value: "", text: "the picture" },
            ...recipe.drapes.map((d) => ({ value: d.name, text: d.name })),
          ]}
          onChange={(rides) => change({ rides: rides || null }, "Carrier")}
        />
        <p className="mt-1 mb-1 text-[12px] text-dim">
          A drape that follows the passing thing carries the shape between its keys.
        </p>
        {recipe.drapes
          .filter((d) => d.name !== holdout.rides)
          .map((d) => (
            <Switch
              key={d.name}
              label={`In front of ${d.name}`}
              checked={limited === null || limited.includes(d.name)}
              onChange={(on) => {
                const all = limited ?? recipe.drapes.map((x) => x.name);
                const next = on ? [...all, d.name] : all.filter((n) => n !== d.name);
                const every = recipe.drapes.every((x) => x.name === holdout.rides || next.includes(x.name));
                change({ before: every ? null : next }, "Reach");
              }}
            />
          ))}
        <RangeRow
          range={holdout.range ?? null}
          first={shot.facts.first_frame}
          last={shot.facts.last_frame}
          onChange={(range) => change({ range }, "Range")}
        />
      </Section>
      <Section title="Holdout">
        <TextField label="Name" value={holdout.name} onCommit={(name) => change({ name }, "Name")} />
        <Button onClick={remove}>Remove holdout</Button>
      </Section>
    </>
  );
}
