import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken, type Schema } from "../../api/client";
import { useUiAside } from "../../app/store";
import { centreOf } from "../../geometry/points";
import { round } from "../../geometry/spline";
import { Button, Section, TextField } from "../../ui/controls";
import { presetsQuery, useEdit, useStartJob } from "../queries";
import {
  drapeOutline,
  freeName,
  readOutline,
  referenceOf,
  withVeil,
  writeOutline,
  type Drape,
  type Recipe,
  type Veil,
} from "../recipe";

const SETTINGS = ["feather", "feather_in", "grow", "opacity", "params"] as const;
const ITS_OWN = ["donor", "art", "chosen"]; // what belongs to one place or person, and is not copied

/** The settings of a veil, without its place. */
function settingsOf(veil: Veil): Partial<Veil> {
  const params = Object.fromEntries(Object.entries(veil.params ?? {}).filter(([n]) => !ITS_OWN.includes(n)));
  return { ...Object.fromEntries(SETTINGS.map((s) => [s, veil[s]])), params };
}

/** A veil on another drape, as far from its middle as it was from the middle of its own. */
export function movedTo(veil: Veil, from: Drape | undefined, to: Drape, name: string): Veil {
  const middle = (d: Drape) => centreOf(drapeOutline(d).points.map(([x, y]) => ({ x, y })));
  const start = from ? middle(from) : middle(to);
  const end = middle(to);
  const outline = veil.outline ? readOutline(veil.outline) : drapeOutline(to);
  const points = outline.points.map(([x, y]): [number, number] => [
    round(x + end.x - start.x),
    round(y + end.y - start.y),
  ]);
  return {
    ...veil,
    name,
    drape: to.name,
    frame: referenceOf(to),
    outline: writeOutline({ ...outline, points }),
    ...settingsOf(veil),
    params: { ...settingsOf(veil).params, ...(veil.params?.art ? { art: veil.params.art } : {}) },
  };
}

/** Settings taken from elsewhere, kept for elsewhere, and the veil copied to another drape. */
export function Reuse({ shot, recipe, veil }: { shot: Schema["Shot"]; recipe: Recipe; veil: Veil }) {
  const { data: presets } = useQuery(presetsQuery);
  const client = useQueryClient();
  const ui = useUiAside();
  const edit = useEdit(shot.id);
  const start = useStartJob(shot.id);
  const [name, setName] = useState(`my ${veil.kind}`);
  const others = recipe.veils.filter((v) => v.kind === veil.kind && v.name !== veil.name);
  const drapes = recipe.drapes.filter((d) => d.name !== veil.drape);
  const mine = presets?.filter((p) => p.kind === veil.kind) ?? [];

  const take = (settings: Partial<Veil>, from: string) => {
    const own = Object.fromEntries(Object.entries(veil.params ?? {}).filter(([n]) => ITS_OWN.includes(n)));
    const next = withVeil(recipe, veil.name, (v) => ({
      ...v,
      ...settings,
      params: { ...(settings.params ?? {}), ...own },
    }));
    void edit(next, `Settings of ${veil.name} from ${from}`).then(
      (ok) => ok && void start({ kind: "ready" }),
    );
  };
  const copy = async (to: Drape) => {
    const copyName = freeName(
      veil.name.replace(/ \d+$/, ""),
      recipe.veils.map((v) => v.name),
    );
    const made = movedTo(
      veil,
      recipe.drapes.find((d) => d.name === veil.drape),
      to,
      copyName,
    );
    if (!(await edit({ ...recipe, veils: [...recipe.veils, made] }, `Copy ${veil.name} to ${to.name}`)))
      return;
    ui.set({ selection: { kind: "veil", name: copyName } });
    await start({ kind: "ready" });
  };
  const keep = async () => {
    const settings = JSON.parse(JSON.stringify(settingsOf(veil))) as Record<string, unknown>;
    await taken(api.PUT("/api/presets", { body: { name, kind: veil.kind, settings } }));
    await client.invalidateQueries({ queryKey: presetsQuery.queryKey });
    ui.say(`Preset ${name} is kept in the library`);
  };
  const drop = async (preset: string) => {
    await taken(api.DELETE("/api/presets/{name}", { params: { path: { name: preset } } }));
    await client.invalidateQueries({ queryKey: presetsQuery.queryKey });
  };

  return (
    <Section title="Settings again">
      {mine.map((p) => (
        <div key={p.name} className="flex items-center gap-1 py-0.5">
          <span className="mr-auto truncate">{p.name}</span>
          <Button onClick={() => take(p.settings as Partial<Veil>, p.name)}>Use</Button>
          <Button kind="quiet" label={`Forget preset ${p.name}`} onClick={() => void drop(p.name)}>
            Forget
          </Button>
        </div>
      ))}
      <TextField label="Preset" value={name} onCommit={setName} />
      <div className="mt-1 flex flex-wrap gap-1">
        <Button onClick={() => void keep()} title="Keeps the settings, not the place, in your library">
          Keep as preset
        </Button>
        {others.slice(0, 6).map((v) => (
          <Button
            key={v.name}
            onClick={() => take(settingsOf(v), v.name)}
            title={`Its settings become those of ${v.name}`}
          >
            As {v.name}
          </Button>
        ))}
        {drapes.slice(0, 6).map((d) => (
          <Button
            key={d.name}
            onClick={() => void copy(d)}
            title={`A copy of this veil that rests on ${d.name}`}
          >
            Copy to {d.name}
          </Button>
        ))}
      </div>
    </Section>
  );
}
