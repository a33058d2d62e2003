import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken, type Schema } from "../../api/client";
import { useUiAside } from "../../app/store";
import { Button, Choice, NumberField, Section, TextField } from "../../ui/controls";
import { deliveriesQuery, useFault } from "../queries";
import { fileName } from "./model";

const MARKS: Record<string, [string, string]> = {
  done: ["●", "text-verdigris"],
  failed: ["■", "text-fail"],
  cancelled: ["■", "text-dim"],
};

export function HandOverCard({
  shot,
  revision,
}: {
  shot: Schema["Shot"];
  revision: Schema["Revision"] | { revision: number; version_name: string | null; label: string };
}) {
  const { data } = useQuery(deliveriesQuery(shot.id));
  const client = useQueryClient();
  const onError = useFault();
  const ui = useUiAside();
  const slug = shot.name.replace(/[^A-Za-z0-9]+/g, "_");
  const [form, setForm] = useState<"png" | "movie">("png");
  const [name, setName] = useState(`${slug}_v1`);
  const [prefix, setPrefix] = useState(`${slug}.`);
  const [startNumber, setStart] = useState(shot.in_frame);
  const [digits, setDigits] = useState(4);
  const go = async () => {
    try {
      await taken(
        api.POST("/api/shots/{shot}/deliveries", {
          params: { path: { shot: shot.id } },
          body: {
            form,
            name,
            prefix,
            start_number: startNumber,
            digits,
            first: shot.in_frame,
            last: shot.out_frame,
            matte: null,
          },
        }),
      );
      ui.say(`Handing over ${name}`);
    } catch (fault) {
      onError(fault);
    }
    void client.invalidateQueries({ queryKey: ["shot", shot.id, "deliveries"] });
  };
  return (
    <>
      <Section title="What">
        <Choice
          label="Form"
          value={form}
          options={[
            { value: "png", text: "PNG sequence" },
            { value: "movie", text: "H.264 movie" },
          ]}
          onChange={setForm}
        />
        <p className="my-1 text-dim">
          Frames <span className="num text-ink">{shot.in_frame}</span> to{" "}
          <span className="num text-ink">{shot.out_frame}</span> of{" "}
          {revision.version_name ? (
            <b className="text-ink">{revision.version_name}</b>
          ) : (
            <>
              revision <span className="num text-ink">{revision.revision}</span>
            </>
          )}
          {form === "movie" && (
            <>
              , at exactly <span className="num text-ink">{shot.facts.rate}</span> fps
            </>
          )}
          .
        </p>
        <TextField label="Name" value={name} onCommit={setName} mono />
        {form === "png" && (
          <>
            <TextField label="Prefix" value={prefix} onCommit={setPrefix} mono />
            <NumberField
              label="Start number"
              value={startNumber}
              low={0}
              onCommit={(v) => setStart(Math.round(v))}
            />
            <NumberField
              label="Digits"
              value={digits}
              low={1}
              high={10}
              onCommit={(v) => setDigits(Math.round(v))}
            />
            <p className="num truncate text-[11px] text-dim">
              {fileName(prefix, startNumber, digits)} to{" "}
              {fileName(prefix, startNumber + shot.out_frame - shot.in_frame, digits)}
            </p>
          </>
        )}
        <div className="mt-2">
          <Button kind="main" onClick={() => void go()}>
            Hand over
          </Button>
        </div>
      </Section>
      <Section title="Handed over">
        <p className="num mb-1 text-[11px] break-all text-dim select-text">{data?.folder}</p>
        {data?.deliveries.length === 0 && <p className="text-dim">Nothing yet.</p>}
        {data?.deliveries.map((d) => {
          const [mark, colour] = MARKS[d.state] ?? ["○", "text-saffron"];
          return (
            <div key={d.id} className="flex justify-between gap-2 py-px">
              <span className="num truncate select-text">{d.path.split("/").pop()}</span>
              <span className={`${colour} whitespace-nowrap`}>
                {mark} {d.state === "done" ? `${d.files} file${d.files === 1 ? "" : "s"}` : d.state}
              </span>
            </div>
          );
        })}
      </Section>
      <Section title="Not built yet">
        <p className="text-[12px] text-dim">
          Patch with alpha. Mattes come from the command line; vectors, coordinate maps, points and corners
          from a drape&apos;s card.
        </p>
      </Section>
    </>
  );
}
