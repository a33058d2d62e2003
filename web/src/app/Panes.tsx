import { type ReactNode } from "react";
import { Group, Panel, Separator, useDefaultLayout, type GroupProps } from "react-resizable-panels";

const MINE = "panes.";

/** Forget all sizes that were dragged. */
export function forgetSizes(): void {
  for (const key of Object.keys(localStorage)) if (key.includes(MINE)) localStorage.removeItem(key);
}

/** Panes side by side (or one above the other), whose sizes are remembered under the group's id. */
export function Panes({
  id,
  panes,
  ...rest
}: GroupProps & {
  id: string;
  /** Ids of the panes that are there now: each set has sizes of its own. */
  panes: string[];
}) {
  const { defaultLayout, onLayoutChanged } = useDefaultLayout({
    id: MINE + id,
    panelIds: panes,
    storage: localStorage,
    onlySaveAfterUserInteractions: true,
  });
  return <Group id={id} defaultLayout={defaultLayout} onLayoutChanged={onLayoutChanged} {...rest} />;
}

/** A pane that keeps its size in px while the window changes, and folds away when it is dragged shut. */
export function SidePane(props: {
  id: string;
  size: number;
  least: number;
  most: number | string;
  children: ReactNode;
}) {
  return (
    <Panel
      id={props.id}
      defaultSize={props.size}
      minSize={props.least}
      maxSize={props.most}
      collapsible
      groupResizeBehavior="preserve-pixel-size"
      className="flex flex-col"
    >
      {props.children}
    </Panel>
  );
}

/** The line between two panes: dragged, moved with the arrow keys, and put back with a double click. */
export function Divider({ label, across }: { label: string; across?: boolean }) {
  const size = across ? "h-px" : "w-px";
  const grip = across ? "inset-x-0 -inset-y-1" : "inset-y-0 -inset-x-1";
  return (
    <Separator
      aria-label={label}
      title="Drag to resize; double-click to put it back"
      className={`group relative z-10 bg-line outline-none ${size}`}
    >
      <span
        className={`absolute ${grip} group-focus-visible:bg-madder/70 group-data-[separator=active]:bg-madder/50 group-data-[separator=hover]:bg-edge/60`}
      />
    </Separator>
  );
}
