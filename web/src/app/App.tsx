import { Panel } from "react-resizable-panels";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { HelpSheet, Palette } from "../actions/Palette";
import type { Doing } from "../actions/actions";
import { useKeys } from "../actions/useKeys";
import { api, taken, type Schema } from "../api/client";
import { latest } from "../api/latest";
import { HoldoutCard } from "../features/drape/HoldoutCard";
import { DrapeCard } from "../features/drape/DrapeCard";
import { HandOverCard } from "../features/delivery/HandOverCard";
import { useEvents } from "../features/events";
import { HistoryDialog } from "../features/HistoryDialog";
import { ProofCard } from "../features/proof/ProofCard";
import { shotsQuery, useFault, useMove, useRecipe, useStartJob } from "../features/queries";
import { BringInDialog } from "../features/shot/BringInDialog";
import { ShotCard } from "../features/shot/ShotCard";
import { strokeParam } from "../features/veil/brush";
import { VeilCard } from "../features/veil/VeilCard";
import { Rack } from "../rack/Rack";
import { Score } from "../score/Score";
import { Button, Section } from "../ui/controls";
import { useSelected } from "../features/useSelected";
import { Views } from "../viewer/Views";
import { Header } from "./Header";
import { Divider, Panes, SidePane } from "./Panes";
import { useUi, useUiAside } from "./store";

/** The in and out frame of a shot: the newest arrives last. */
const sendRange = latest(
  ({ shot, ...body }: { shot: number; in_frame: number; out_frame: number; rate: null }) =>
    taken(api.PATCH("/api/shots/{shot}", { params: { path: { shot } }, body, keepalive: true })),
);

function shotInAddress(): number | null {
  const match = /^\/shots\/(\d+)/.exec(window.location.pathname);
  return match ? Number(match[1]) : null;
}

export function App() {
  useEvents();
  const { data: shots, error } = useQuery(shotsQuery);
  const [wanted, setWanted] = useState(shotInAddress);
  const ui = useUiAside();
  const shot =
    shots?.find((s) => s.id === wanted) ?? (wanted === null ? shots?.[0] : undefined) ?? shots?.[0];

  const open = (id: number) => {
    window.history.pushState(null, "", `/shots/${id}`);
    setWanted(id);
  };
  useEffect(() => {
    const back = () => setWanted(shotInAddress());
    window.addEventListener("popstate", back);
    return () => window.removeEventListener("popstate", back);
  }, []);
  const id = shot?.id;
  useEffect(() => {
    if (!shot) return;
    const asked = Number(new URLSearchParams(window.location.search).get("frame") ?? NaN);
    const frame = Number.isFinite(asked) ? asked : shot.in_frame;
    useUi.getState().set({ frame, playing: 0, selection: { kind: "shot" }, stage: "shot", tool: "none" });
  }, [id]); // eslint-disable-line react-hooks/exhaustive-deps

  if (error) return <p className="p-8 text-fail">■ {error.message}</p>;
  if (!shots) return <p className="p-8 text-dim">Opening the library.</p>;
  return (
    <div className="flex h-full flex-col">
      {shot ? (
        <Workplace key={shot.id} shots={shots} shot={shot} onOpen={open} />
      ) : (
        <>
          <Header
            shots={shots}
            shot={undefined}
            onOpen={open}
            move={() => {}}
            canUndo={false}
            canRedo={false}
          />
          <div className="flex flex-1 flex-col items-center justify-center gap-3">
            <p>The library is empty. Bring in a movie or an image sequence to begin.</p>
            <Button kind="main" onClick={() => ui.set({ dialog: "bring-in" })}>
              Bring in a clip
            </Button>
          </div>
        </>
      )}
      {ui.dialog === "bring-in" && <BringInDialog onOpened={open} />}
      {ui.dialog === "help" && <HelpSheet />}
      {ui.fault && (
        <div
          role="alert"
          className="fixed bottom-[224px] left-1/2 z-30 flex max-w-[640px] -translate-x-1/2 items-start gap-3 rounded border border-fail bg-panel px-3 py-2 shadow-xl"
        >
          <span className="text-fail">■</span>
          <span className="select-text">{ui.fault}</span>
          <Button kind="quiet" onClick={() => ui.set({ fault: null })}>
            Close
          </Button>
        </div>
      )}
      <p aria-live="polite" className="sr-only" role="status">
        <Said />
      </p>
    </div>
  );
}

function Said() {
  return useUi((s) => s.said);
}

function Workplace({
  shots,
  shot,
  onOpen,
}: {
  shots: Schema["Shot"][];
  shot: Schema["Shot"];
  onOpen: (id: number) => void;
}) {
  const { data: revision } = useRecipe(shot.id);
  const client = useQueryClient();
  const onError = useFault();
  const move = useMove(shot.id);
  const start = useStartJob(shot.id);
  const ui = useUiAside();
  const recipe = revision?.recipe;
  const { drape, veil } = useSelected(recipe);

  const standing = () => client.getQueryData(shotsQuery.queryKey)?.find((s) => s.id === shot.id) ?? shot;
  const setRange = async (in_frame: number, out_frame: number) => {
    void client.cancelQueries({ queryKey: shotsQuery.queryKey });
    client.setQueryData(shotsQuery.queryKey, (old) =>
      old?.map((s) => (s.id === shot.id ? { ...s, in_frame, out_frame } : s)),
    );
    try {
      await sendRange({ shot: shot.id, in_frame, out_frame, rate: null });
    } catch (fault) {
      onError(fault);
      void client.invalidateQueries({ queryKey: ["shots"] });
    }
    void client.invalidateQueries({ queryKey: ["shot", shot.id, "proof"] });
  };

  const doing: Doing = useMemo(
    () => ({
      first: shot.facts.first_frame,
      last: shot.facts.last_frame,
      // As the range stands when a key is pressed: a key may follow a change before it is drawn.
      get inFrame() {
        return standing().in_frame;
      },
      get outFrame() {
        return standing().out_frame;
      },
      canUndo: revision?.can_undo ?? false,
      canRedo: revision?.can_redo ?? false,
      hasDrape: drape !== null,
      canPaint: !!veil && strokeParam(veil) !== null,
      move: (to) => void move(to),
      setRange: (a, b) => void setRange(a, b),
      follow: () =>
        drape &&
        void start({
          kind: "follow",
          drape: drape.name,
          first: standing().in_frame,
          last: standing().out_frame,
        }),
      prove: () => void start({ kind: "prove" }).then(() => ui.set({ stage: "proof" })),
    }),
    [shot, revision, drape, veil], // eslint-disable-line react-hooks/exhaustive-deps
  );
  useKeys(doing);

  return (
    <>
      <Header
        shots={shots}
        shot={shot}
        onOpen={onOpen}
        move={(to) => void move(to)}
        canUndo={doing.canUndo}
        canRedo={doing.canRedo}
      />
      <Panes
        key={ui.panesPutBack}
        id="desk"
        panes={["pictures", "score"]}
        orientation="vertical"
        className="min-h-0 flex-1"
      >
        <Panel id="pictures" minSize={200}>
          <main className="h-full">
            <Panes id="sides" panes={["rack", "views", "card"]}>
              <SidePane id="rack" size={206} least={160} most={420}>
                <Rack shot={shot} />
              </SidePane>
              <Divider label="Width of the rack" />
              <Panel id="views" minSize={280} className="flex">
                <Views shot={shot} />
              </Panel>
              <Divider label="Width of the card" />
              <SidePane id="card" size={284} least={250} most={520}>
                <Card shot={shot} setRange={(a, b) => void setRange(a, b)} />
              </SidePane>
            </Panes>
          </main>
        </Panel>
        <Divider label="Height of the score" across />
        <SidePane id="score" size={214} least={82} most="70%">
          <Score shot={shot} setRange={(a, b) => void setRange(a, b)} />
        </SidePane>
      </Panes>
      {ui.dialog === "palette" && <Palette doing={doing} />}
      {ui.dialog === "history" && <HistoryDialog shot={shot.id} />}
    </>
  );
}

/** The card of the stage: what can be set and read of what is selected. */
function Card({
  shot,
  setRange,
}: {
  shot: Schema["Shot"];
  setRange: (inFrame: number, outFrame: number) => void;
}) {
  const { data: revision } = useRecipe(shot.id);
  const ui = useUiAside();
  const recipe = revision?.recipe;
  const { drape, veil } = useSelected(recipe);
  const chosen = ui.selection;
  const holdout = recipe?.holdouts.find((h) => chosen.kind === "holdout" && h.name === chosen.name);
  return (
    <aside
      key={`${ui.stage} ${chosen.kind === "shot" ? "" : chosen.name}`} // another card begins at its top
      aria-label="Card"
      className="min-h-0 flex-1 overflow-x-hidden overflow-y-auto bg-panel"
    >
      {ui.stage === "shot" && <ShotCard shot={shot} setRange={setRange} />}
      {ui.stage === "drape" &&
        (recipe && holdout ? (
          <HoldoutCard key={holdout.name} shot={shot} recipe={recipe} holdout={holdout} />
        ) : recipe && drape ? (
          <DrapeCard key={drape.name} shot={shot} recipe={recipe} drape={drape} />
        ) : (
          <Section title="Drape">
            <p className="mb-2 text-dim">
              A drape is a piece of surface that is followed. Draw one on a sharp frame, loosely around the
              thing.
            </p>
            <Button kind="main" onClick={() => ui.set({ tool: "outline", playing: 0 })}>
              Draw a drape
            </Button>
          </Section>
        ))}
      {ui.stage === "veil" &&
        (recipe && veil ? (
          <VeilCard key={veil.name} shot={shot} recipe={recipe} veil={veil} />
        ) : (
          <Section title="Veil">
            <p className="mb-2 text-dim">
              A veil is one change that rests on a drape. Choose one in the rack, or mark a spot on{" "}
              {drape ? drape.name : "a drape"}.
            </p>
            <Button kind="main" onClick={() => ui.set({ tool: drape ? "mark" : "spot", playing: 0 })}>
              {drape ? "Mark a spot" : "Take a spot off"}
            </Button>
          </Section>
        ))}
      {ui.stage === "proof" && <ProofCard shot={shot} veils={recipe?.veils.length ?? 0} />}
      {ui.stage === "delivery" && revision && <HandOverCard shot={shot} revision={revision} />}
    </aside>
  );
}
