import { useState } from "react";
import { useUi } from "../app/store";
import { Sheet } from "../ui/Sheet";
import { ACTIONS, keyLabel, type Action, type Doing } from "./actions";

const shown = (a: Action) => a.keys.map(keyLabel).join(" or ");

/** Search what can be done, and do it. */
export function Palette({ doing }: { doing: Doing | null }) {
  const set = useUi((s) => s.set);
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const found = ACTIONS.filter(
    (a) =>
      a.label.toLowerCase().includes(text.toLowerCase()) && (!a.when || (doing !== null && a.when(doing))),
  );
  const run = (a: Action | undefined) => {
    set({ dialog: "none" });
    if (a && doing) setTimeout(() => a.run(doing));
  };
  return (
    <Sheet title="What do you want to do?" onClose={() => set({ dialog: "none" })}>
      <input
        autoFocus
        aria-label="Search actions"
        className="mb-2 w-full rounded border border-line bg-ground px-2 py-1.5"
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
        }}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown") setAt(Math.min(at + 1, found.length - 1));
          if (e.key === "ArrowUp") setAt(Math.max(at - 1, 0));
          if (e.key === "Enter") run(found[at]);
        }}
      />
      <ul role="listbox" aria-label="Actions">
        {found.map((a, i) => (
          <li key={a.id} role="option" aria-selected={i === at}>
            <button
              className={`flex w-full justify-between rounded px-2 py-1 text-left ${i === at ? "bg-raised text-bright" : ""}`}
              onClick={() => run(a)}
            >
              {a.label}
              <span className="num text-dim">{shown(a)}</span>
            </button>
          </li>
        ))}
      </ul>
      {found.length === 0 && <p className="text-dim">Nothing of that name. Try "follow" or "spot".</p>}
    </Sheet>
  );
}

/** All keys, and how to begin. */
export function HelpSheet() {
  const set = useUi((s) => s.set);
  const groups = [...new Set(ACTIONS.map((a) => a.group))];
  return (
    <Sheet title="Keys and help" onClose={() => set({ dialog: "none" })} wide>
      <p className="mb-3 text-dim">
        To take a spot off: press <b className="num text-ink">T</b>, drag a circle around it on a frame where
        it is sharp, and wait for the result. Then play it, and look at the flat view: there the skin should
        stand still. Points of an outline are dragged; double-click the line to add one, double-click a point
        to make it a corner, Delete removes it. The wheel zooms, dragging empty picture (or the middle button)
        pans.
      </p>
      <div className="columns-2 gap-6">
        {groups.map((g) => (
          <section key={g} className="mb-3 break-inside-avoid">
            <h3 className="mb-1 font-semibold text-bright">{g}</h3>
            {ACTIONS.filter((a) => a.group === g).map((a) => (
              <div key={a.id} className="flex justify-between gap-2 py-px">
                <span>{a.label}</span>
                <span className="num text-dim">{shown(a)}</span>
              </div>
            ))}
          </section>
        ))}
      </div>
    </Sheet>
  );
}
