import { useQuery } from "@tanstack/react-query";
import type { Schema } from "../api/client";
import { now, useUiAside, type ToolName } from "../app/store";
import { stateQuery, trackQuery, useEdit, useRecipe, useStartJob } from "../features/queries";
import { FacePartsMenu } from "../features/drape/FacePartsMenu";
import { isLost } from "../features/drape/model";
import {
  freeName,
  reordered,
  withVeil,
  writeOutline,
  type Drape,
  type Pair,
  type Veil,
} from "../features/recipe";
import { Button, Hint } from "../ui/controls";
import { scaledOutline } from "../geometry/outlineEdits";
import { useSelected } from "../features/useSelected";
import { AddVeil } from "./AddVeil";

const row = "flex w-full items-center gap-1.5 px-2 py-1 text-left";
const chosen = "bg-raised text-bright shadow-[inset_3px_0_0_var(--color-madder)]";

/** What to do with the tool in hand. */
const TOOL_SAYS: Record<Exclude<ToolName, "none">, string> = {
  brush: "Paint in the flat view, where the surface stands still. Escape puts the brush down.",
  source: "Click where the brush samples: clean skin near by.",
  stroke: "Drag the stroke to where it should be; what it samples stays.",
  tack: "Take hold of a point of the surface and drag it to where it is on this frame.",
  outline: "Click points around the surface; close on the first point or with Enter.",
  holdout: "Click points around what passes in front; close on the first point or with Enter.",
  point: "On the reference a click places a point; on other frames drag a point to where it is.",
  vertex: "Click the surface to add a vertex; Shift and click takes the nearest one away.",
  spot: "Drag from the middle of the spot outwards. Escape puts the tool down.",
  mark: "Drag from the middle of the spot outwards. Escape puts the tool down.",
};

function DrapeMark({ shot, drape }: { shot: number; drape: string }) {
  const { data: track } = useQuery(trackQuery(shot, drape));
  if (!track) return <span className="text-[11px] text-dim">not followed</span>;
  const bad = track.status.filter(isLost).length;
  const weak = track.status.filter((s) => s === "weak").length;
  if (bad > 0) return <span className="text-[11px] text-fail">■ {bad} lost</span>;
  if (weak > 0) return <span className="text-[11px] text-saffron">▲ {weak} weak</span>;
  return <span className="text-[11px] text-verdigris">● {track.frames.length}</span>;
}

export function Rack({ shot }: { shot: Schema["Shot"] }) {
  const { data: revision } = useRecipe(shot.id);
  const { data: state } = useQuery(stateQuery(shot.id));
  const ui = useUiAside();
  const edit = useEdit(shot.id);
  const start = useStartJob(shot.id);
  const recipe = revision?.recipe;
  const { drape } = useSelected(recipe);
  const isDrape = (d: Drape) => ui.selection.kind === "drape" && ui.selection.name === d.name;
  const isVeil = (v: Veil) => ui.selection.kind === "veil" && ui.selection.name === v.name;
  const flip = (v: Veil) => {
    const on = v.enabled === false;
    void edit(
      withVeil(recipe!, v.name, (o) => ({ ...o, enabled: on })),
      `${v.name} ${on ? "on" : "off"}`,
    ).then((ok) => ok && on && void start({ kind: "ready" }));
  };
  const reorder = (name: string, to: number) => {
    const at = recipe!.veils.findIndex((v) => v.name === name);
    if (at < 0 || at === to) return;
    void edit(reordered(recipe!, name, to), `Order of ${name}`).then(
      (ok) => ok && void start({ kind: "ready" }),
    );
  };
  const drapePart = async (part: string, points: Pair[]) => {
    const taken = recipe!.drapes.map((d) => d.name);
    const name = taken.includes(part) ? freeName(part, taken) : part;
    const frame = now().frame;
    const added: Drape = {
      name,
      reference_frames: [frame],
      // A face's rim turns away first, and has nothing to hold on to.
      outline: {
        [frame]: part === "face" ? writeOutline(scaledOutline({ points, corners: [] }, 0.88)) : points,
      },
      follower: { kind: "face" },
    };
    if (await edit({ ...recipe!, drapes: [...recipe!.drapes, added] }, `Drape ${name}`))
      ui.set({ selection: { kind: "drape", name }, stage: "drape" });
  };
  const veilRow = (v: Veil) => {
    const at = recipe!.veils.indexOf(v);
    return (
      <div
        key={v.name}
        draggable
        onDragStart={(e) => e.dataTransfer.setData("text/plain", v.name)}
        onDragOver={(e) => e.preventDefault()}
        onDrop={(e) => reorder(e.dataTransfer.getData("text/plain"), at)}
        className={`flex items-center pl-2 ${isVeil(v) ? chosen : "hover:bg-raised"}`}
      >
        <Hint text="Order of laying. Drag it, or press Alt with Up or Down, to lay it earlier or later.">
          <span className="num w-4 text-right text-[11px] text-dim">{at + 1}</span>
        </Hint>
        <button
          className="min-w-0 flex-1 px-2 py-1 text-left"
          onClick={() => ui.set({ selection: { kind: "veil", name: v.name }, stage: "veil" })}
          onKeyDown={(e) => {
            if (!e.altKey || (e.key !== "ArrowUp" && e.key !== "ArrowDown")) return;
            e.preventDefault();
            e.stopPropagation();
            reorder(v.name, at + (e.key === "ArrowUp" ? -1 : 1));
          }}
        >
          <span className={`block truncate ${v.enabled === false ? "text-dim line-through" : ""}`}>
            {v.name}
          </span>
          <span className="block text-[11px] text-dim">
            {v.kind}
            {state?.veils[v.name] && !state.veils[v.name]!.laid && ", waits for the drape"}
          </span>
        </button>
        <Hint
          text={
            ui.solo === v.name
              ? "See all veils again"
              : "See this veil alone; what is handed over does not change"
          }
        >
          <button
            aria-label={`${v.name} alone`}
            aria-pressed={ui.solo === v.name}
            onClick={() => ui.set({ solo: ui.solo === v.name ? null : v.name })}
            className={`mr-1 rounded border px-1 text-[11px] ${ui.solo === v.name ? "border-saffron text-saffron" : "border-line text-dim hover:text-bright"}`}
          >
            alone
          </button>
        </Hint>
        <Hint text={v.enabled === false ? "Lay this veil again" : "Leave this veil out"}>
          <button
            aria-label={`${v.name} on`}
            aria-pressed={v.enabled !== false}
            onClick={() => flip(v)}
            className="mr-2 rounded border border-line px-1 text-[11px] text-dim hover:text-bright"
          >
            {v.enabled === false ? "off" : "on"}
          </button>
        </Hint>
      </div>
    );
  };
  return (
    <nav aria-label="Rack" className="flex min-h-0 flex-1 flex-col bg-panel">
      <div className="flex flex-col gap-1.5 border-b border-line p-2">
        <Button
          kind="main"
          pressed={ui.tool === "spot"}
          onClick={() => ui.set({ tool: "spot", playing: 0 })}
          title="Drag a circle around a spot; the skin is followed and the spot goes (T)"
        >
          Take a spot off
        </Button>
        <div className="flex gap-1.5 [&>*]:flex-1">
          <Button
            pressed={ui.tool === "outline"}
            onClick={() => ui.set({ tool: "outline", playing: 0 })}
            title="Click points around a piece of surface (D)"
          >
            Draw a drape
          </Button>
          <Button
            pressed={ui.tool === "mark"}
            disabled={!recipe?.drapes.length}
            onClick={() => ui.set({ tool: "mark", markKind: "conceal", playing: 0 })}
            title="Drag a circle around a mark on the drape, in either view (M)"
          >
            Mark
          </Button>
        </div>
        {recipe && (
          <FacePartsMenu
            shot={shot.id}
            label="Drape a part of a face"
            title="Finds the faces on this frame and drapes the cheek, the forehead, the lips and so on"
            onChoose={(part, points) => void drapePart(part, points)}
          />
        )}
        <Button
          pressed={ui.tool === "holdout"}
          onClick={() => ui.set({ tool: "holdout", playing: 0 })}
          title="Click points around something that passes in front; it is not followed and stays as it is (X)"
        >
          Hold something out
        </Button>
        {recipe && <AddVeil shot={shot} recipe={recipe} drape={drape} />}
        {ui.tool !== "none" && <p className="text-[12px] text-saffron">{TOOL_SAYS[ui.tool]}</p>}
      </div>
      <div className="min-h-0 flex-1 overflow-auto">
        <button
          className={`${row} ${ui.selection.kind === "shot" ? chosen : "hover:bg-raised"}`}
          onClick={() => ui.set({ selection: { kind: "shot" }, stage: "shot" })}
        >
          <span className="truncate font-semibold">{shot.name}</span>
        </button>
        {recipe?.drapes.map((d) => (
          <div key={d.name}>
            <button
              className={`${row} border-t border-line/60 ${isDrape(d) ? chosen : "hover:bg-raised"}`}
              onClick={() => ui.set({ selection: { kind: "drape", name: d.name }, stage: "drape" })}
            >
              <span aria-hidden className="text-dim">
                ⌒
              </span>
              <span className="min-w-0 flex-1 truncate">{d.name}</span>
              {d.locked && <span className="text-[11px] text-dim">locked</span>}
              <DrapeMark shot={shot.id} drape={d.name} />
            </button>
            {recipe.veils.filter((v) => v.drape === d.name).map(veilRow)}
          </div>
        ))}
        {recipe && recipe.veils.some((v) => !v.drape) && (
          <div>
            <div className="border-t border-line/60 px-2 py-1 text-dim">The picture itself</div>
            {recipe.veils.filter((v) => !v.drape).map(veilRow)}
          </div>
        )}
        {recipe && recipe.holdouts.length > 0 && (
          <div>
            <div className="border-t border-line/60 px-2 py-1 text-dim">Held out</div>
            {recipe.holdouts.map((h) => (
              <button
                key={h.name}
                className={`${row} ${ui.selection.kind === "holdout" && ui.selection.name === h.name ? chosen : "hover:bg-raised"}`}
                onClick={() => ui.set({ selection: { kind: "holdout", name: h.name }, stage: "drape" })}
              >
                <span
                  className={`min-w-0 flex-1 truncate pl-4 ${h.enabled === false ? "text-dim line-through" : ""}`}
                >
                  {h.name}
                </span>
                <span className="text-[11px] text-dim">{h.rides ? `on ${h.rides}` : "on the picture"}</span>
              </button>
            ))}
          </div>
        )}
        {recipe && recipe.drapes.length === 0 && (
          <p className="px-3 py-3 text-dim">
            Nothing is followed yet. Go to a frame where the spot is sharp, press{" "}
            <b className="text-ink">Take a spot off</b>, and drag a circle around it.
          </p>
        )}
      </div>
    </nav>
  );
}
