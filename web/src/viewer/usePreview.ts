import { useEffect, useRef, useState } from "react";
import { useUi } from "../app/store";
import type { Recipe } from "../features/recipe";
import type { MatteLook } from "./addresses";

interface Asked {
  flat: string | null;
  wanted: boolean;
  look: MatteLook | "result";
  veil: string | null;
}

type Wanted = Omit<Asked, "wanted"> & { recipe: Recipe; frame: number };

/**
 * The picture of a recipe that is only being tried, while something is dragged. One request at a time, and always of
 * the newest state: what was overtaken is never asked for. With `flat` it is that drape's flat view;
 * with a matte's look, that of `veil`.
 */
export function usePreview(
  shot: number,
  { flat = null, wanted = true, look = "result", veil = null }: Partial<Asked> = {},
): ImageBitmap | null {
  const draft = useUi((s) => (wanted ? s.draft : null));
  const frame = useUi((s) => s.frame);
  const [shown, setShown] = useState<ImageBitmap | null>(null);
  const newest = useRef<Wanted | null>(null);
  const asking = useRef(false);
  newest.current = draft ? { recipe: draft, frame, flat, look, veil } : null;

  useEffect(() => {
    if (!draft) return setShown(null);
    if (asking.current) return;
    asking.current = true;
    const ask = async (): Promise<void> => {
      const wish = newest.current;
      if (!wish) return;
      const reply = await fetch(`/api/shots/${shot}/preview`, {
        method: "POST",
        headers: { "Content-Type": "application/json" },
        body: JSON.stringify(wish),
      });
      if (reply.ok && newest.current) setShown(await createImageBitmap(await reply.blob()));
      if (newest.current && newest.current !== wish && newest.current.recipe !== wish.recipe) await ask();
    };
    void ask()
      .catch(() => {})
      .finally(() => (asking.current = false));
  }, [draft, frame, shot, flat, look, veil]);

  return draft ? shown : null;
}
