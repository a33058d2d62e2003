import { useQuery } from "@tanstack/react-query";
import { DropdownMenu, Popover } from "radix-ui";
import { api, type Schema } from "../api/client";
import { isOver, shownJob } from "../features/jobs";
import { jobsQuery, proofQuery, stateQuery, deliveriesQuery, useRecipe } from "../features/queries";
import { Button } from "../ui/controls";
import { useUiAside, type Stage } from "./store";
import { stageMarks, type Mark } from "./stages";

const STAGES: { stage: Stage; text: string }[] = [
  { stage: "shot", text: "Shot" },
  { stage: "drape", text: "Drape" },
  { stage: "veil", text: "Veil" },
  { stage: "proof", text: "Proof" },
  { stage: "delivery", text: "Hand over" },
];
const MARKS: Record<Mark, { sign: string; word: string; colour: string }> = {
  nothing: { sign: "○", word: "nothing yet", colour: "text-dim" },
  work: { sign: "◐", word: "in work", colour: "text-ink" },
  ready: { sign: "●", word: "ready", colour: "text-verdigris" },
  look: { sign: "▲", word: "needs a look", colour: "text-saffron" },
};

export function Header(props: {
  shots: Schema["Shot"][];
  shot: Schema["Shot"] | undefined;
  onOpen: (id: number) => void;
  move: (to: "undo" | "redo") => void;
  canUndo: boolean;
  canRedo: boolean;
}) {
  const ui = useUiAside();
  return (
    <header className="flex h-11 shrink-0 items-center gap-3 border-b border-line bg-panel px-3">
      <span className="flex items-center gap-2 font-semibold text-bright">
        <img src="/icon.svg" alt="" className="size-5" />
        Gentle Veil
      </span>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger className="flex max-w-60 items-center gap-2 truncate rounded border border-line bg-raised px-2 py-1 hover:border-edge">
          {props.shot ? (
            <span className="truncate">
              <span className="text-dim">{props.shot.production} / </span>
              {props.shot.name}
            </span>
          ) : (
            "Choose a shot"
          )}
          <span aria-hidden className="text-dim">
            ▾
          </span>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="start"
            className="z-40 min-w-64 rounded border border-line bg-panel p-1 text-ink shadow-xl"
          >
            {props.shots.map((s) => (
              <DropdownMenu.Item
                key={s.id}
                onSelect={() => props.onOpen(s.id)}
                className="flex cursor-pointer justify-between gap-4 rounded px-2 py-1 outline-none data-[highlighted]:bg-raised data-[highlighted]:text-bright"
              >
                {s.name}
                <span className="num text-dim">
                  {s.facts.width}x{s.facts.height} {s.facts.rate}
                </span>
              </DropdownMenu.Item>
            ))}
            <DropdownMenu.Separator className="my-1 h-px bg-line" />
            <DropdownMenu.Item
              onSelect={() => ui.set({ dialog: "bring-in" })}
              className="cursor-pointer rounded px-2 py-1 outline-none data-[highlighted]:bg-raised data-[highlighted]:text-bright"
            >
              Bring in a clip
            </DropdownMenu.Item>
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      {props.shot ? <Stages shot={props.shot} /> : <span className="flex-1" />}
      <span className="ml-auto flex items-center gap-1">
        <Button
          kind="quiet"
          disabled={!props.canUndo}
          onClick={() => props.move("undo")}
          title="Undo (Ctrl+Z)"
        >
          Undo
        </Button>
        <Button
          kind="quiet"
          disabled={!props.canRedo}
          onClick={() => props.move("redo")}
          title="Redo (Ctrl+Shift+Z)"
        >
          Redo
        </Button>
        <Button kind="quiet" onClick={() => ui.set({ dialog: "history" })}>
          History
        </Button>
        <JobsButton />
        <Button
          kind="quiet"
          onClick={() => ui.set({ dialog: "palette" })}
          title="Search what can be done (Ctrl+K)"
        >
          Search
        </Button>
        <Button kind="quiet" onClick={() => ui.set({ dialog: "help" })} label="Keys and help">
          ?
        </Button>
      </span>
    </header>
  );
}

function Stages({ shot }: { shot: Schema["Shot"] }) {
  const ui = useUiAside();
  const { data: revision } = useRecipe(shot.id);
  const { data: state } = useQuery(stateQuery(shot.id));
  const { data: proof } = useQuery(proofQuery(shot.id));
  const { data: deliveries } = useQuery(deliveriesQuery(shot.id));
  const marks = stageMarks({
    recipe: revision?.recipe,
    state,
    proof: proof?.verdict ?? null,
    revision: revision?.revision ?? 0,
    deliveries: deliveries?.deliveries ?? [],
  });
  return (
    <nav aria-label="Stages" className="flex items-center">
      {STAGES.map(({ stage, text }, i) => {
        const mark = MARKS[marks[stage]];
        return (
          <span key={stage} className="flex items-center">
            {i > 0 && (
              <span aria-hidden className="px-0.5 text-edge">
                /
              </span>
            )}
            <button
              aria-current={ui.stage === stage ? "step" : undefined}
              onClick={() => ui.set({ stage })}
              title={mark.word}
              className={`flex items-center gap-1 rounded px-1.5 py-1 whitespace-nowrap ${ui.stage === stage ? "bg-raised text-bright shadow-[inset_0_-2px_0_var(--color-madder)]" : "text-dim hover:text-ink"}`}
            >
              <span aria-hidden className={`text-[10px] ${mark.colour}`}>
                {mark.sign}
              </span>
              {text}
              <span className="sr-only">, {mark.word}</span>
            </button>
          </span>
        );
      })}
    </nav>
  );
}

function left(seconds: number | null): string {
  if (seconds === null) return "";
  return seconds < 1.5
    ? "about a second left"
    : seconds < 90
      ? `about ${Math.round(seconds)} s left`
      : `about ${Math.round(seconds / 60)} min left`;
}

function JobsButton() {
  const { data: jobs } = useQuery(jobsQuery);
  const running = jobs?.filter((j) => !isOver(j)) ?? [];
  const first = shownJob(jobs ?? []);
  const share = first && first.total > 0 ? first.done / first.total : 0;
  return (
    <Popover.Root>
      <Popover.Trigger
        className="relative w-44 overflow-hidden rounded border border-line bg-raised px-2 py-1 text-left hover:border-edge"
        aria-label={`Jobs: ${running.length} running`}
      >
        {first && (
          <span className="absolute inset-y-0 left-0 bg-verdigris/30" style={{ width: `${share * 100}%` }} />
        )}
        <span className="relative block truncate">
          {first ? first.title : <span className="text-dim">Jobs: none</span>}
        </span>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={6}
          className="z-40 max-h-96 w-80 overflow-auto rounded border border-line bg-panel p-2 text-ink shadow-xl"
        >
          {jobs?.length === 0 && <p className="text-dim">Nothing has run yet.</p>}
          {jobs?.slice(0, 12).map((j) => (
            <div key={j.id} className="border-b border-line/60 py-1 last:border-0">
              <div className="flex justify-between gap-2">
                <span className="truncate">{j.title}</span>
                {!isOver(j) ? (
                  <Button
                    kind="quiet"
                    onClick={() =>
                      void api.POST("/api/jobs/{job}/cancel", { params: { path: { job: j.id } } })
                    }
                    label={`Stop ${j.title}`}
                  >
                    stop
                  </Button>
                ) : (
                  <span className={j.state === "failed" ? "text-fail" : "text-dim"}>{j.state}</span>
                )}
              </div>
              {j.state === "running" && (
                <p className="text-[12px] text-dim">
                  <span className="num">
                    {j.done}/{j.total}
                  </span>{" "}
                  {j.doing} {left(j.seconds_left)}
                </p>
              )}
              {j.error && <p className="text-[12px] text-fail">{j.error}</p>}
            </div>
          ))}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
