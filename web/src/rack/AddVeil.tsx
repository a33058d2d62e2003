import { DropdownMenu } from "radix-ui";
import type { Schema } from "../api/client";
import { now, useUiAside } from "../app/store";
import { useEdit, useStartJob } from "../features/queries";
import {
  drapeOutline,
  freeName,
  referenceOf,
  writeOutline,
  type Drape,
  type Recipe,
  type Veil,
} from "../features/recipe";
import { scaledOutline } from "../geometry/outlineEdits";

const WHOLE_DRAPE = 0.85; // of the drape's outline, which is loose around the thing
const SOFT_FEATHER = 16; // px; skin has no edge where smoothing may end

interface Wish {
  label: string;
  help: string;
  needsDrape: boolean;
  make: (drape: Drape | null, name: (stem: string) => string) => Veil | "mark";
}

const whole = (drape: Drape): unknown => writeOutline(scaledOutline(drapeOutline(drape), WHOLE_DRAPE));
const on = (drape: Drape) => ({ drape: drape.name, frame: referenceOf(drape), outline: whole(drape) });

const WISHES: (Wish & { kind: string })[] = [
  {
    kind: "conceal",
    label: "Conceal a mark",
    help: "Drag a circle around a spot, a scar or a tattoo on the drape; it goes.",
    needsDrape: true,
    make: () => "mark",
  },
  {
    kind: "paint",
    label: "Paint",
    help: "Brush on the surface where it stands still: heal, clone, colour, soften, on tone or texture.",
    needsDrape: true,
    make: (d, name) => ({ name: name("paint"), kind: "paint", ...on(d!), feather: 4 }),
  },
  {
    kind: "smooth",
    label: "Smooth skin",
    help: "Evens blotches and lines over the drape, or over the whole picture by its colour.",
    needsDrape: false,
    make: (d, name) =>
      d
        ? { name: name("smooth"), kind: "smooth", ...on(d), feather: SOFT_FEATHER }
        : { name: name("smooth"), kind: "smooth", frame: now().frame },
  },
  {
    kind: "apply",
    label: "Apply artwork",
    help: "Puts a logo, a tattoo, makeup or dirt on the drape.",
    needsDrape: true,
    make: (d, name) => ({ name: name("artwork"), kind: "apply", ...on(d!) }),
  },
  {
    kind: "obscure",
    label: "Obscure this drape",
    help: "Hides what the drape follows: a plate, a sign, a screen.",
    needsDrape: true,
    make: (d, name) => ({ name: name("cover"), kind: "obscure", ...on(d!), params: { margin: 0.05 } }),
  },
  {
    kind: "obscure",
    label: "Obscure faces",
    help: "Finds every face in the shot and hides all of them, or all but those you choose.",
    needsDrape: false,
    make: (_, name) => ({
      name: name("faces"),
      kind: "obscure",
      frame: now().frame,
      params: { whom: "all faces" },
    }),
  },
  {
    kind: "keep",
    label: "Keep the original",
    help: "Drag a circle on the drape where the original comes through again: an eye, a mouth, a hand.",
    needsDrape: true,
    make: () => "mark",
  },
];

/** A menu of everything that can be done to the selected drape, or to the picture. */
export function AddVeil({
  shot,
  recipe,
  drape,
}: {
  shot: Schema["Shot"];
  recipe: Recipe;
  drape: Drape | null;
}) {
  const ui = useUiAside();
  const edit = useEdit(shot.id);
  const start = useStartJob(shot.id);
  const choose = async (wish: Wish & { kind: string }) => {
    const taken = recipe.veils.map((v) => v.name);
    const made = wish.make(drape, (stem) => freeName(stem, taken));
    if (made === "mark") return ui.set({ tool: "mark", markKind: wish.kind, playing: 0 });
    if (!(await edit({ ...recipe, veils: [...recipe.veils, made] }, `Add ${made.name}`))) return;
    ui.set({ selection: { kind: "veil", name: made.name }, stage: "veil", look: "result" });
    await start({ kind: "ready" });
  };
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <button className="w-full rounded border border-line bg-raised px-2 py-1 leading-tight hover:border-edge">
          Add a veil
        </button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="start"
          sideOffset={4}
          className="z-40 w-72 rounded border border-edge bg-panel p-1 shadow-xl"
        >
          {WISHES.map((w) => (
            <DropdownMenu.Item
              key={w.label}
              disabled={w.needsDrape && !drape}
              onSelect={() => void choose(w)}
              className="rounded px-2 py-1 outline-none data-[disabled]:opacity-45 data-[highlighted]:bg-raised"
            >
              <div className="text-bright">{w.label}</div>
              <div className="text-[12px] text-dim">
                {w.help}
                {w.needsDrape && (drape ? <> On {drape.name}.</> : " Choose a drape first.")}
              </div>
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
