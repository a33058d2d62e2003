import { useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { now, useUi } from "../../app/store";
import { round } from "../../geometry/spline";
import { partsQuery } from "../queries";
import type { Pair } from "../recipe";

type Parts = Record<string, Pair[]>;

/** Looks for faces on the frame that is seen, and offers their parts as outlines. */
export function FacePartsMenu({
  shot,
  label,
  title,
  onChoose,
}: {
  shot: number;
  label: string;
  title: string;
  onChoose: (part: string, points: Pair[]) => void;
}) {
  const client = useQueryClient();
  const set = useUi((s) => s.set);
  const [faces, setFaces] = useState<Parts[] | null>(null);
  const look = async (open: boolean) => {
    if (!open) return;
    setFaces(null);
    try {
      setFaces((await client.fetchQuery(partsQuery(shot, now().frame))) as Parts[]);
    } catch (e) {
      set({ fault: e instanceof Error ? e.message : String(e) });
    }
  };
  return (
    <DropdownMenu.Root onOpenChange={(open) => void look(open)}>
      <DropdownMenu.Trigger asChild>
        <button
          title={title}
          className="w-full rounded border border-line bg-raised px-2 py-1 leading-tight hover:border-edge"
        >
          {label}
        </button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="start"
          sideOffset={4}
          className="z-40 max-h-[70vh] w-48 overflow-auto rounded border border-edge bg-panel p-1 shadow-xl"
        >
          {faces === null && <div className="px-2 py-1 text-dim">Looking for faces on this frame.</div>}
          {faces?.length === 0 && (
            <div className="px-2 py-1 text-dim">No face is found on this frame; go to one that shows it.</div>
          )}
          {faces?.map((face, i) => (
            <DropdownMenu.Group key={i}>
              {faces.length > 1 && (
                <DropdownMenu.Label className="px-2 pt-1 text-[12px] text-dim">
                  {i === 0 ? "largest face" : `face ${i + 1}`}
                </DropdownMenu.Label>
              )}
              {Object.entries(face).map(([part, points]) => (
                <DropdownMenu.Item
                  key={part}
                  onSelect={() =>
                    onChoose(
                      part,
                      points.map(([x, y]): Pair => [round(x), round(y)]),
                    )
                  }
                  className="rounded px-2 py-0.5 outline-none data-[highlighted]:bg-raised data-[highlighted]:text-bright"
                >
                  {part}
                </DropdownMenu.Item>
              ))}
            </DropdownMenu.Group>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
