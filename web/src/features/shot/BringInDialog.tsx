import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, sendFile, taken, type Schema } from "../../api/client";
import { useUi } from "../../app/store";
import { Button, Choice, TextField } from "../../ui/controls";
import { Sheet } from "../../ui/Sheet";
import { inboxQuery } from "../queries";
import { Fact } from "./ShotCard";

type Found = { source: { upload?: string; inbox?: string }; facts: Schema["Inspected"] };

/** Bring in a clip: choose, look at what it is, answer what is missing, confirm. */
export function BringInDialog({ onOpened }: { onOpened: (shot: number) => void }) {
  const set = useUi((s) => s.set);
  const client = useQueryClient();
  const { data: inbox } = useQuery(inboxQuery);
  const [progress, setProgress] = useState<{ name: string; share: number } | null>(null);
  const [found, setFound] = useState<Found | null>(null);
  const [fault, setFault] = useState<string | null>(null);
  const [name, setName] = useState("");
  const [rate, setRate] = useState("");
  const [gaps, setGaps] = useState<"refuse" | "hold">("refuse");
  const [busy, setBusy] = useState(false);

  const guarded = async (work: () => Promise<void>) => {
    setFault(null);
    setBusy(true);
    try {
      await work();
    } catch (e) {
      setFault(e instanceof Error ? e.message : String(e));
    } finally {
      setBusy(false);
      setProgress(null);
    }
  };

  const inspect = async (source: Found["source"]) => {
    const facts = await taken(api.POST("/api/inspect", { body: source as Schema["Source"] }));
    setFound({ source, facts });
    setName(facts.name);
    setRate(facts.rate ?? "");
  };

  const upload = (files: File[]) =>
    guarded(async () => {
      if (files.length === 0) return;
      const { token } = await taken(api.POST("/api/uploads"));
      try {
        const total = files.reduce((s, f) => s + f.size, 0) || 1;
        let sent = 0;
        for (const file of files) {
          await sendFile(token, file, (share) =>
            setProgress({ name: file.name, share: (sent + share * file.size) / total }),
          );
          sent += file.size;
        }
        await inspect({ upload: token });
      } catch (e) {
        void api.DELETE("/api/uploads/{token}", { params: { path: { token } } });
        throw e;
      }
    });

  const bringIn = () =>
    guarded(async () => {
      if (!found) return;
      const body = { source: found.source, name, rate: rate || null, gaps } as Schema["BringIn"];
      const { id } = await taken(api.POST("/api/shots", { body }));
      await client.invalidateQueries({ queryKey: ["shots"] });
      onOpened(id);
      set({ dialog: "none" });
    });

  const close = () => {
    const token = found?.source.upload;
    if (token) void api.DELETE("/api/uploads/{token}", { params: { path: { token } } });
    set({ dialog: "none" });
  };

  const f = found?.facts;
  return (
    <Sheet title="Bring in a clip" onClose={close}>
      {fault && (
        <p role="alert" className="mb-3 rounded border border-fail px-2 py-1.5 text-fail">
          ■ {fault}
        </p>
      )}
      {!f && (
        <>
          <label
            className="mb-3 flex cursor-pointer flex-col items-center gap-1 rounded border border-dashed border-edge p-6 text-center hover:border-madder"
            onDragOver={(e) => e.preventDefault()}
            onDrop={(e) => {
              e.preventDefault();
              void upload([...e.dataTransfer.files]);
            }}
          >
            <b>Choose a movie, or all pictures of a sequence</b>
            <span className="text-dim">or drop them here. MP4, MOV, MKV, WebM; PNG, TIFF, JPEG, EXR.</span>
            <input
              type="file"
              multiple
              className="sr-only"
              aria-label="Files to bring in"
              onChange={(e) => void upload([...(e.target.files ?? [])])}
            />
          </label>
          {progress && (
            <div
              className="mb-3"
              role="progressbar"
              aria-valuenow={Math.round(progress.share * 100)}
              aria-label="Upload"
            >
              <div className="mb-1 flex justify-between text-dim">
                <span className="truncate">{progress.name}</span>
                <span className="num">{Math.round(progress.share * 100)} %</span>
              </div>
              <div className="h-1.5 rounded bg-ground">
                <div className="h-full rounded bg-verdigris" style={{ width: `${progress.share * 100}%` }} />
              </div>
            </div>
          )}
          <h3 className="mb-1 font-semibold text-dim">From the library's inbox folder</h3>
          <p className="num mb-1 text-[11px] break-all text-dim">{inbox?.folder}</p>
          {inbox?.clips.length === 0 && (
            <p className="text-dim">It is empty. Put movies or folders of pictures there.</p>
          )}
          {inbox?.clips.map((c) => (
            <button
              key={c.path}
              className="flex w-full justify-between rounded px-2 py-1 text-left hover:bg-raised"
              onClick={() => void guarded(() => inspect({ inbox: c.path }))}
            >
              {c.path} <span className="text-dim">{c.kind}</span>
            </button>
          ))}
        </>
      )}
      {f && (
        <>
          <TextField label="Name" value={name} onCommit={setName} />
          {f.needs_rate && (
            <>
              <p className="mt-2 text-saffron">▲ Pictures do not say how fast they go. Which frame rate?</p>
              <TextField label="Frame rate" value={rate} onCommit={setRate} mono hint="24, 25, 30000/1001" />
            </>
          )}
          {f.missing.length > 0 && (
            <div className="my-2">
              <p className="mb-1 text-saffron">▲ The numbering has gaps: {f.missing_text} missing.</p>
              <Choice
                label="Gaps"
                value={gaps}
                options={[
                  { value: "refuse", text: "Refuse; I bring the missing pictures" },
                  { value: "hold", text: "Hold the frame before" },
                ]}
                onChange={setGaps}
              />
            </div>
          )}
          <div className="my-2">
            <Fact name="Size">
              {f.width} x {f.height}
            </Fact>
            {f.rate && <Fact name="Rate">{f.rate} fps</Fact>}
            <Fact name="Frames">
              {f.first_frame} to {f.last_frame} ({f.frame_count})
            </Fact>
            <Fact name="Encoding">
              {f.codec}, {f.pixel_format}
            </Fact>
            {Object.entries(f.colour).map(([k, v]) => (
              <Fact key={k} name={k}>
                {v}
              </Fact>
            ))}
          </div>
          {f.warnings.map((w) => (
            <p key={w} className="text-saffron">
              ▲ {w}
            </p>
          ))}
          <div className="mt-3 flex gap-2">
            <Button kind="main" onClick={() => void bringIn()} disabled={busy || (f.needs_rate && !rate)}>
              Bring in
            </Button>
            <Button
              onClick={() => {
                setFound(null);
                setFault(null);
              }}
            >
              Choose another
            </Button>
          </div>
        </>
      )}
    </Sheet>
  );
}
