import { useQuery } from "@tanstack/react-query";
import type { Schema } from "../../api/client";
import { now, useUiAside } from "../../app/store";
import { Button, NumberField, Section, Switch, TextField } from "../../ui/controls";
import { scaledOutline } from "../../geometry/outlineEdits";
import { OutlineList } from "../drape/OutlineList";
import { BelongingSection } from "./BelongingSection";
import { DonorsSection } from "./DonorsSection";
import { FacesSection } from "./FacesSection";
import { FacePartsMenu } from "../drape/FacePartsMenu";
import { alike } from "../../geometry/keyedShape";
import { RangeRow } from "../RangeRow";
import { ScopeSwitch } from "../ScopeSwitch";
import { PaintSection } from "./PaintSection";
import { PlacementsSection } from "./PlacementsSection";
import { PlatesSection } from "./PlatesSection";
import { SelectionSection } from "./SelectionSection";
import { Reuse } from "./Reuse";
import { ParamPanel } from "../ParamPanel";
import { ArtworkShelf } from "../artwork/ArtworkShelf";
import { KeyedField } from "../KeyedField";
import { paramsQuery, stateQuery, useEdit, useStartJob } from "../queries";
import {
  FEATHER,
  hasOutline,
  readOutline,
  referenceOf,
  withVeil,
  writeOutline,
  type Outline,
  type Recipe,
  type Veil,
} from "../recipe";

const NOT_BUILT = ["tint", "reshape"];

export function VeilCard({ shot, recipe, veil }: { shot: Schema["Shot"]; recipe: Recipe; veil: Veil }) {
  const { data: params } = useQuery(paramsQuery);
  const { data: state } = useQuery(stateQuery(shot.id));
  const commit = useEdit(shot.id);
  const start = useStartJob(shot.id);
  const ui = useUiAside();
  const note = state?.veils[veil.name];
  const drape = recipe.drapes.find((d) => d.name === veil.drape);
  const outline = hasOutline(veil) ? readOutline(veil.outline) : null;
  const change = (part: Partial<Veil>, label: string) =>
    void commit(
      withVeil(recipe, veil.name, (v) => ({ ...v, ...part })),
      `${label} of ${veil.name}`,
    ).then((ok) => {
      ui.set({ draft: null });
      if (ok) void start({ kind: "ready" });
    });
  const draft = (part: Partial<Veil>) =>
    ui.set({ draft: withVeil(recipe, veil.name, (v) => ({ ...v, ...part })) });
  const setOutline = (o: Outline, label: string) => {
    const others = Object.entries(veil.shapes ?? {}).map(([f, s]) => [
      f,
      writeOutline(alike(outline!, o, readOutline(s), true)),
    ]);
    change({ outline: writeOutline(o), shapes: Object.fromEntries(others) }, label);
  };
  const rename = (to: string) =>
    void commit(
      withVeil(recipe, veil.name, (v) => ({ ...v, name: to })),
      `Rename ${veil.name}`,
    ).then((ok) => ok && ui.set({ selection: { kind: "veil", name: to } }));
  const remove = () =>
    void commit(
      { ...recipe, veils: recipe.veils.filter((v) => v.name !== veil.name) },
      `Remove ${veil.name}`,
    ).then(
      (ok) =>
        ok &&
        ui.set(
          veil.drape
            ? { selection: { kind: "drape", name: veil.drape }, stage: "drape" }
            : { selection: { kind: "shot" }, stage: "shot" },
        ),
    );
  const number = (
    name: "feather" | "feather_in" | "grow" | "opacity",
    label: string,
    standard: number,
    more: { low: number; high: number; step: number; unit?: string; help: string },
  ) => (
    <KeyedField
      label={label}
      value={veil[name] ?? standard}
      standard={standard}
      onChange={(v) => change({ [name]: v }, label)}
      onDraft={(v) => draft({ [name]: v })}
      {...more}
    />
  );
  return (
    <>
      {veil.kind === "conceal" && (
        <DonorsSection veil={veil} note={note} onChange={(next, label) => change({ params: next }, label)} />
      )}
      {veil.kind === "conceal" && veil.params?.way === "brought in" && drape && (
        <PlatesSection
          veil={veil}
          shot={shot.id}
          reference={referenceOf(drape)}
          onChange={(params, label) => change({ params }, label)}
        />
      )}
      {veil.kind === "paint" && (
        <PaintSection
          veil={veil}
          onChange={(strokes, label) => change({ params: { ...veil.params, strokes } }, label)}
        />
      )}
      {veil.kind === "smooth" && veil.drape && (
        <SelectionSection
          veil={veil}
          onChange={(strokes, label) => change({ params: { ...veil.params, selection: strokes } }, label)}
        />
      )}
      {veil.kind === "apply" && (
        <ArtworkShelf
          chosen={String(veil.params?.art ?? "")}
          onChoose={(art) => change({ params: { ...veil.params, art } }, "Artwork")}
        />
      )}
      {veil.kind === "apply" && drape && drape.reference_frames.length > 1 && (
        <PlacementsSection
          veil={veil}
          references={drape.reference_frames}
          onChange={(params, label) => change({ params }, label)}
        />
      )}
      {veil.kind === "obscure" && (
        <FacesSection
          shot={shot.id}
          whom={String(veil.params?.whom ?? "outline")}
          chosen={(veil.params?.chosen as string[] | undefined) ?? []}
          hasOutline={outline !== null}
          why={note?.why ?? ""}
          onChange={(whom, chosen) => change({ params: { ...veil.params, whom, chosen } }, "Whom")}
        />
      )}
      <Section title="Matte">
        {number("feather", "Feather", FEATHER, {
          low: 0,
          high: 200,
          step: 0.5,
          unit: "px",
          help: "How softly the veil ends outside its outline, in px of the reference frame. Drag a point with Shift held to make it softer or harder there.",
        })}
        {veil.kind !== "obscure" &&
          number("feather_in", "Feather in", 0, {
            low: 0,
            high: 200,
            step: 0.5,
            unit: "px",
            help: "How far inside its outline the veil begins to fade.",
          })}
        {number("grow", "Size", 0, {
          low: -100,
          high: 100,
          step: 0.5,
          unit: "px",
          help: "Moves the edge outwards, or inwards when negative.",
        })}
        {number("opacity", "Opacity", 1, { low: 0, high: 1, step: 0.01, help: "0 leaves the original." })}
        <div className="py-0.5">
          <FacePartsMenu
            shot={shot.id}
            label="Outline of a face part"
            title="The veil's outline becomes a part of a face on the frame that is seen"
            onChoose={(part, points) =>
              change({ frame: now().frame, outline: points, shapes: {} }, `Outline: ${part}`)
            }
          />
        </div>
        {outline && <ScopeSwitch />}
        {veil.shapes && Object.keys(veil.shapes).length > 0 && (
          <div className="flex flex-wrap items-center gap-1 py-0.5">
            <span className="text-dim">Outline also keyed on</span>
            {Object.keys(veil.shapes).map((f) => (
              <Button key={f} onClick={() => ui.set({ frame: Number(f), playing: 0 })}>
                <span className="num">{f}</span>
              </Button>
            ))}
            <Button kind="quiet" onClick={() => change({ shapes: {} }, "Outline the same everywhere")}>
              same everywhere
            </Button>
          </div>
        )}
        {outline && (
          <div className="mt-1 flex gap-1.5">
            <Button onClick={() => setOutline(scaledOutline(outline, 1.1), "Outline")}>Larger outline</Button>
            <Button onClick={() => setOutline(scaledOutline(outline, 1 / 1.1), "Outline")}>Smaller</Button>
          </div>
        )}
      </Section>
      <ParamPanel
        params={params?.veils[veil.kind]?.params ?? []}
        given={veil.params ?? {}}
        skip={["donor", "donors", "whom", "chosen", "strokes", "selection"]}
        onChange={(next, label) => change({ params: next }, label)}
        onDraft={(next) => draft({ params: next })}
      />
      {veil.drape && <BelongingSection shot={shot} drape={veil.drape} />}
      <Section title="When">
        <Switch
          label="Laid"
          checked={veil.enabled !== false}
          onChange={(on) => change({ enabled: on }, on ? "On" : "Off")}
        />
        {veil.drape && params?.veils[veil.kind]?.stays_behind && (
          <Switch
            label="Behind what passes"
            help="Whatever comes in front of the surface is found by its look and left as it is, drawn as a holdout or not."
            checked={veil.behind !== false}
            onChange={(on) => change({ behind: on }, on ? "Behind what passes" : "Over what passes")}
          />
        )}
        <RangeRow
          range={veil.range ?? null}
          first={shot.facts.first_frame}
          last={shot.facts.last_frame}
          onChange={(range) => change({ range }, "Range")}
        />
        {veil.range &&
          (["come_in", "go_out"] as const).map((end) => (
            <NumberField
              key={end}
              label={end === "come_in" ? "Comes in over" : "Goes out over"}
              help="Frames at the end of its range over which it fades."
              value={veil[end] ?? 0}
              standard={0}
              low={0}
              high={1000}
              step={1}
              unit="f"
              onCommit={(v) => change({ [end]: v }, end === "come_in" ? "Coming in" : "Going out")}
            />
          ))}
      </Section>
      <Reuse shot={shot} recipe={recipe} veil={veil} />
      <Section title="Veil">
        <TextField label="Name" value={veil.name} onCommit={rename} />
        <div className="flex justify-between py-0.5">
          <span className="text-dim">
            {veil.kind}, drawn on frame <span className="num">{veil.frame}</span>
          </span>
          <Button onClick={remove}>Remove veil</Button>
        </div>
        <p className="mt-1 text-[12px] text-dim">
          Kinds not built yet: {NOT_BUILT.filter((n) => !params?.veils[n]).join(", ")}.
        </p>
      </Section>
      {outline && <OutlineList outline={outline} soft={veil.kind !== "obscure"} onChange={setOutline} />}
    </>
  );
}
