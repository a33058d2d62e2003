import { useEffect, useRef, useState } from "react";
import { useUi } from "../app/store";

/**
 * The picture of a recipe that is only being tried, while something is dragged. One request at a time, and always of
 * the newest state: what was overtaken is never asked for.
 */
export function usePreview(shot: number): ImageBitmap | null {
  const draft = useUi((s) => s.draft);
  const frame = useUi((s) => s.frame);
  const [shown, setShown] = useState<ImageBitmap | null>(null);
  const newest = useRef<{ recipe: unknown; frame: number } | null>(null);
  const asking = useRef(false);
  newest.current = draft ? { recipe: draft, frame } : null;

  useEffect(() => {
    if (!draft) return setShown(null);
    if (asking.current) return;
    asking.current = true;
    const ask = async (): Promise<void> => {
      const wanted = newest.current;
      if (!wanted) return;
      const reply = await fetch(`/api/shots/${shot}/preview`, {
        method: "POST",
        headers: { "Content-Type": "application/json" },
        body: JSON.stringify(wanted),
      });
      if (reply.ok && newest.current) setShown(await createImageBitmap(await reply.blob()));
      if (newest.current && newest.current !== wanted && newest.current.recipe !== wanted.recipe) await ask();
    };
    void ask()
      .catch(() => {})
      .finally(() => (asking.current = false));
  }, [draft, frame, shot]);

  return draft ? shown : null;
}
