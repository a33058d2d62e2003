import { now, useUi } from "../app/store";
import { Button, Hint, NumberField } from "../ui/controls";
import { valueAt, withKey, withoutKey, type Value } from "./recipe";

const EASES = ["linear", "smooth", "hold"] as const;

interface Props {
  label: string;
  value: Value;
  onChange: (value: Value) => void;
  onDraft?: (value: Value) => void;
  unit?: string;
  low?: number | null;
  high?: number | null;
  step?: number | null;
  standard?: number;
  help?: string;
}

/**
 * A number that is the same on all frames, or has keys. Which of the two an edit changes is always written beside it:
 * "all frames", or "this frame" once there are keys.
 */
export function KeyedField(props: Props) {
  return typeof props.value === "number" ? <Constant {...props} /> : <Keyed {...props} />;
}

function Constant({ value, onChange, onDraft, ...rest }: Props) {
  return (
    <div className="flex items-center gap-1">
      <div className="min-w-0 flex-1">
        <NumberField {...rest} value={value as number} onCommit={onChange} onDraft={onDraft} />
      </div>
      <Hint
        text={`${rest.label} is the same on all frames. Press to let it change: a key is set on this frame.`}
      >
        <button
          aria-label={`Key ${rest.label}`}
          className="rounded px-1 text-[11px] text-dim hover:text-bright"
          onClick={() => onChange(withKey(value, now().frame, value as number))}
        >
          all
        </button>
      </Hint>
    </div>
  );
}

function Keyed({ value, onChange, onDraft, ...rest }: Props) {
  const frame = useUi((s) => s.frame);
  const set = useUi((s) => s.set);
  if (typeof value === "number") return null;
  const frames = Object.keys(value.keys)
    .map(Number)
    .sort((a, b) => a - b);
  const here = value.keys[String(frame)] !== undefined;
  const before = frames.filter((f) => f < frame).pop();
  const after = frames.find((f) => f > frame);
  const ease = value.ease ?? "linear";
  return (
    <div className="my-0.5 rounded border border-line px-1.5">
      <NumberField
        {...rest}
        standard={undefined}
        value={valueAt(value, frame)}
        onCommit={(v) => onChange(withKey(value, frame, v))}
        onDraft={onDraft && ((v) => onDraft(withKey(value, frame, v)))}
      />
      <div className="flex items-center gap-0.5 pb-1 text-[11px] text-dim">
        <span className={here ? "text-saffron" : ""}>this frame{here ? ", keyed" : ""}</span>
        <span className="ml-auto" />
        <Button
          kind="quiet"
          disabled={before === undefined}
          label={`Key of ${rest.label} before`}
          onClick={() => set({ frame: before!, playing: 0 })}
        >
          back
        </Button>
        <span className="num">{frames.length}</span>
        <Button
          kind="quiet"
          disabled={after === undefined}
          label={`Key of ${rest.label} after`}
          onClick={() => set({ frame: after!, playing: 0 })}
        >
          on
        </Button>
        <Button
          kind="quiet"
          title="How it goes from key to key: in a line, starting and ending at rest, or held until the next"
          onClick={() => onChange({ ...value, ease: EASES[(EASES.indexOf(ease) + 1) % 3]! })}
        >
          {ease}
        </Button>
        <Button
          kind="quiet"
          disabled={!here}
          label={`Remove key of ${rest.label}`}
          onClick={() => onChange(withoutKey(value, frame))}
        >
          unkey
        </Button>
        <Button
          kind="quiet"
          title="The value of this frame on all frames; the keys go"
          onClick={() => onChange(valueAt(value, frame))}
        >
          all frames
        </Button>
      </div>
    </div>
  );
}
