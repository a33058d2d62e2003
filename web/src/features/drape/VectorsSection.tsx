import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { api, sendFile, taken, type Schema } from "../../api/client";
import { useUi } from "../../app/store";
import { Button, Section } from "../../ui/controls";
import { useStartJob, vectorsQuery } from "../queries";

const size = (bytes: number): string =>
  bytes < 1e6
    ? `${Math.round(bytes / 1e3)} kB`
    : bytes < 1e9
      ? `${(bytes / 1e6).toFixed(0)} MB`
      : `${(bytes / 1e9).toFixed(1)} GB`;

/** The motion of the shot that is kept: analyse it, free it, send it out, bring it in. */
export function VectorsSection({
  shot,
  drape,
  quality,
  followed,
}: {
  shot: Schema["Shot"];
  drape: string;
  quality: string;
  followed: boolean;
}) {
  const { data: kept } = useQuery(vectorsQuery(shot.id));
  const client = useQueryClient();
  const start = useStartJob(shot.id);
  const set = useUi((s) => s.set);
  const say = useUi((s) => s.say);
  const chooser = useRef<HTMLInputElement>(null);
  const [busy, setBusy] = useState(false);
  const again = () => client.invalidateQueries({ queryKey: vectorsQuery(shot.id).queryKey });
  const guarded = async (work: () => Promise<void>) => {
    setBusy(true);
    try {
      await work();
    } catch (e) {
      set({ fault: e instanceof Error ? e.message : String(e) });
    } finally {
      setBusy(false);
      void again();
    }
  };
  const free = (which: string) =>
    guarded(async () => {
      const path = { shot: shot.id, quality: which as "good" };
      await taken(api.DELETE("/api/shots/{shot}/vectors/{quality}", { params: { path } }));
    });
  const bringIn = (files: File[]) =>
    guarded(async () => {
      if (files.length === 0) return;
      const { token } = await taken(api.POST("/api/uploads"));
      for (const file of files) await sendFile(token, file, () => {});
      const params = { path: { shot: shot.id } };
      const { count } = await taken(
        api.POST("/api/shots/{shot}/vectors", { params, body: { upload: token } }),
      );
      say(`Vectors of ${count} frames brought in`);
    });
  const analysed = quality !== "brought in" && quality !== "maps brought in";
  return (
    <Section title="Vectors of the shot">
      {kept
        ?.filter((v) => v.kept > 0 || quality.endsWith(v.quality))
        .map((v) => (
          <div key={v.quality} className="flex items-center justify-between py-0.5">
            <span className={quality.endsWith(v.quality) ? "" : "text-dim"}>{v.quality}</span>
            <span className="flex items-center gap-1.5 text-dim">
              <span className="num">
                {v.kept} of {v.of}
              </span>
              <span className="num">{size(v.bytes)}</span>
              <Button kind="quiet" disabled={busy || v.kept === 0} onClick={() => void free(v.quality)}>
                Free
              </Button>
            </span>
          </div>
        ))}
      <div className="mt-1 flex flex-wrap gap-1.5">
        <Button
          disabled={!analysed}
          onClick={() => void start({ kind: "vectors", quality })}
          title="Analyse the motion of the whole range now; following then only adds it up"
        >
          Analyse the range
        </Button>
        <Button
          onClick={() =>
            void start({
              kind: "send vectors",
              quality: quality === "maps brought in" ? "good" : quality,
              drape: followed ? drape : null,
            })
          }
          title="One multi-part EXR per frame into the deliveries: forward and backward motion, and where the reference lies"
        >
          Send out
        </Button>
        <Button
          disabled={busy}
          onClick={() => chooser.current?.click()}
          title="EXR files, one per frame: vectors, or coordinate maps of this drape's reference"
        >
          Bring in
        </Button>
        <input
          ref={chooser}
          type="file"
          multiple
          accept=".exr"
          aria-label="Vector files"
          className="hidden"
          onChange={(e) => {
            void bringIn([...(e.target.files ?? [])]);
            e.target.value = "";
          }}
        />
      </div>
    </Section>
  );
}
