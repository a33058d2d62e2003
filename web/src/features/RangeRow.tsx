import { now } from "../app/store";
import { Button } from "../ui/controls";

type Range = [number, number];

/** The frames on which something is there; null is all of them. */
export function RangeRow({
  range,
  first,
  last,
  onChange,
}: {
  range: Range | null;
  first: number;
  last: number;
  onChange: (range: Range | null) => void;
}) {
  const fromHere = () => onChange([now().frame, Math.max(now().frame, range?.[1] ?? last)]);
  const toHere = () => onChange([Math.min(now().frame, range?.[0] ?? first), now().frame]);
  return (
    <div className="flex items-center gap-1.5">
      <span className="mr-auto text-dim">
        {range ? (
          <>
            frames <span className="num text-ink">{range[0]}</span> to{" "}
            <span className="num text-ink">{range[1]}</span>
          </>
        ) : (
          "all frames"
        )}
      </span>
      <Button onClick={fromHere}>From here</Button>
      <Button onClick={toHere}>To here</Button>
      <Button disabled={!range} onClick={() => onChange(null)}>
        All
      </Button>
    </div>
  );
}
