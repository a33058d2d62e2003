/** The pictures of a view: quick ones while it moves, exact ones as soon as it stands still. */
import { useEffect, useRef, useState } from "react";
import type { ViewPictures } from "./items";
import { pictures } from "./pictures";

const STILL_AFTER_MS = 160;

export function useBitmaps(shown: ViewPictures, playing: boolean) {
  const [arrived, setArrived] = useState(0);
  const [exact, setExact] = useState(false);
  const [refusal, setRefusal] = useState<string | null>(null);

  // Exact pictures come in as soon as the playhead stands still.
  const stillKey = shown.still.join(" ");
  useEffect(() => {
    setExact(false);
    if (playing) return;
    let current = true;
    const timer = setTimeout(() => {
      const wanted = shown.still.filter((u): u is string => u !== null);
      void Promise.all(wanted.map((u) => pictures.get(u))).then((got) => {
        if (current && got.every(Boolean)) setExact(true);
      });
    }, STILL_AFTER_MS);
    return () => {
      current = false;
      clearTimeout(timer);
    };
  }, [stillKey, playing]); // eslint-disable-line react-hooks/exhaustive-deps

  const movingKey = shown.moving.join(" ");
  const last = useRef<ImageBitmap[]>([]);
  useEffect(() => {
    let current = true;
    for (const url of shown.moving)
      if (url && !pictures.peek(url))
        void pictures.get(url).then((bitmap) => {
          if (!current) return;
          setRefusal(bitmap ? null : pictures.refusal);
          setArrived((n) => n + 1);
        });
    return () => {
      current = false;
    };
  }, [movingKey]); // eslint-disable-line react-hooks/exhaustive-deps

  const bitmaps = (): ImageBitmap[] => {
    const urls = exact ? shown.still : shown.moving;
    const got = urls.map((u) => (u ? pictures.peek(u) : undefined));
    if (got.length > 0 && got.every(Boolean)) last.current = got as ImageBitmap[];
    else if (got[0]) last.current = [got[0]];
    return last.current;
  };

  /** What changes whenever another picture is to be seen, so that it is drawn. */
  const seen = [movingKey, stillKey, exact, arrived];
  return { bitmaps, seen, refusal: movingKey ? refusal : null, address: exact ? stillKey : movingKey };
}
