import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, sendFile, taken } from "../../api/client";
import { useUi } from "../../app/store";
import { Button, Section, Select } from "../../ui/controls";
import { shelfQuery } from "../queries";
import { rasterised } from "./rasterise";

const ALPHAS = ["told", "straight", "premultiplied"] as const;

/** What is on the shelf, to choose from, and a way to bring in more. */
export function ArtworkShelf({
  chosen,
  onChoose,
  title = "Artwork",
}: {
  chosen: string;
  onChoose: (name: string) => void;
  title?: string;
}) {
  const { data: pieces } = useQuery(shelfQuery);
  const client = useQueryClient();
  const set = useUi((s) => s.set);
  const [busy, setBusy] = useState(false);
  const [alpha, setAlpha] = useState<(typeof ALPHAS)[number]>("told");

  const bringIn = async (files: File[]) => {
    if (files.length === 0) return;
    setBusy(true);
    try {
      const plain = await Promise.all(files.map(rasterised));
      const { token } = await taken(api.POST("/api/uploads"));
      for (const file of plain) await sendFile(token, file, () => {});
      const stem = plain[0]!.name.replace(/\.[^.]+$/, "").replace(/[^A-Za-z0-9 _.-]+/g, " ");
      const name = freeOf(stem.trim() || "artwork", pieces?.map((p) => p.name) ?? []);
      const made = await taken(
        api.POST("/api/artwork", { body: { name, upload: token, alpha, rate: null } }),
      );
      await client.invalidateQueries({ queryKey: shelfQuery.queryKey });
      onChoose(made.name);
    } catch (e) {
      set({ fault: e instanceof Error ? e.message : String(e) });
    } finally {
      setBusy(false);
    }
  };
  const remove = async () => {
    await taken(api.DELETE("/api/artwork/{name}", { params: { path: { name: chosen } } }));
    await client.invalidateQueries({ queryKey: shelfQuery.queryKey });
  };
  const piece = pieces?.find((p) => p.name === chosen);

  return (
    <Section title={title}>
      <div role="radiogroup" aria-label="Artwork" className="flex flex-wrap gap-1.5">
        {pieces?.map((p) => (
          <button
            key={p.name}
            role="radio"
            aria-checked={p.name === chosen}
            aria-label={p.name}
            title={`${p.name}, ${p.size.join(" x ")} px${p.count > 1 ? `, ${p.count} pictures` : ""}`}
            onClick={() => onChoose(p.name)}
            className={`size-14 overflow-hidden rounded border bg-[repeating-conic-gradient(#555_0_25%,#777_0_50%)] bg-[length:10px_10px] ${
              p.name === chosen ? "border-madder" : "border-line hover:border-edge"
            }`}
          >
            <img
              src={`/api/artwork/${encodeURIComponent(p.name)}/thumb.png`}
              alt=""
              className="size-full object-contain"
            />
          </button>
        ))}
      </div>
      {chosen && !piece && pieces && (
        <p className="mt-1 text-saffron">
          ▲ &apos;{chosen}&apos; is not on the shelf; bring it in or choose another.
        </p>
      )}
      {piece && (
        <p className="mt-1 text-dim">
          {piece.name}, <span className="num">{piece.size.join(" x ")}</span> px
          {piece.count > 1 && <>, {piece.count} pictures</>}
        </p>
      )}
      <div className="mt-1.5 flex items-center gap-1.5">
        <label className="cursor-pointer rounded border border-line bg-raised px-2 py-1 leading-tight hover:border-edge">
          {busy ? "Bringing in" : `Bring in ${title.toLowerCase()}`}
          <input
            type="file"
            multiple
            className="sr-only"
            aria-label="Artwork files"
            onChange={(e) => {
              void bringIn([...(e.target.files ?? [])]);
              e.target.value = "";
            }}
          />
        </label>
        <Button disabled={!piece} onClick={() => void remove()} title="Take it off the shelf">
          Take off
        </Button>
      </div>
      <Select
        label="Its alpha is"
        help="How the files' colours relate to their alpha: as the format tells, straight, or premultiplied. For what is brought in next."
        value={alpha}
        options={ALPHAS}
        onChange={(v) => setAlpha(v as (typeof ALPHAS)[number])}
      />
    </Section>
  );
}

function freeOf(stem: string, taken: readonly string[]): string {
  if (!taken.includes(stem)) return stem;
  for (let i = 2; ; i++) if (!taken.includes(`${stem} ${i}`)) return `${stem} ${i}`;
}
