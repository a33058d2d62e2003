import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken } from "../api/client";
import { useUi } from "../app/store";
import { Button } from "../ui/controls";
import { Sheet } from "../ui/Sheet";
import { historyQuery, recipeChanged, useFault, useMove } from "./queries";

/** All revisions of a shot; name one as a version, go back to any. */
export function HistoryDialog({ shot }: { shot: number }) {
  const set = useUi((s) => s.set);
  const { data: entries } = useQuery(historyQuery(shot));
  const client = useQueryClient();
  const onError = useFault();
  const move = useMove(shot);
  const [name, setName] = useState("");
  const keep = async () => {
    try {
      recipeChanged(
        client,
        shot,
        await taken(api.POST("/api/shots/{shot}/versions", { params: { path: { shot } }, body: { name } })),
      );
      setName("");
    } catch (fault) {
      onError(fault);
    }
  };
  return (
    <Sheet title="History and versions" onClose={() => set({ dialog: "none" })}>
      <form
        className="mb-3 flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          void keep();
        }}
      >
        <input
          aria-label="Version name"
          placeholder="for review 1"
          className="flex-1 rounded border border-line bg-ground px-2 py-1"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Button type="submit" kind="main" disabled={!name.trim()}>
          Name this state
        </Button>
      </form>
      <ul>
        {entries?.map((e) => (
          <li
            key={e.id}
            className={`flex items-center gap-2 rounded px-2 py-1 ${e.current ? "bg-raised" : ""}`}
          >
            <span className="num w-9 text-dim">{e.id}</span>
            <span className="min-w-0 flex-1 truncate">
              {e.version_name && <b className="mr-2 text-bright">{e.version_name}</b>}
              {e.label}
            </span>
            {e.current ? (
              <span className="text-dim">you are here</span>
            ) : (
              <Button onClick={() => void move({ revision: e.id })}>Go there</Button>
            )}
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
