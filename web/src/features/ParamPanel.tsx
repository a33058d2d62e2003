import type { Schema } from "../api/client";
import { Button, Hint, NumberField, Section, Select, Switch } from "../ui/controls";
import { KeyedField } from "./KeyedField";
import type { Value } from "./recipe";

type Param = Schema["Param"];
type Given = Record<string, unknown>;

interface Props {
  params: readonly Param[];
  given: Given;
  onChange: (given: Given, label: string) => void;
  onDraft?: (given: Given) => void;
  skip?: readonly string[];
}

const same = (a: unknown, b: unknown): boolean => JSON.stringify(a) === JSON.stringify(b);

/** The given parameters with one of them set; a value at its default is not written. */
export function withParam(given: Given, p: Param, value: unknown): Given {
  const next = { ...given };
  if (same(value, p.default)) delete next[p.name];
  else next[p.name] = value;
  return next;
}

/** Whether a parameter counts: some do only while a choice beside them is one of a few. */
export function counts(p: Param, params: readonly Param[], given: Given): boolean {
  if (!p.when) return true;
  const chosen = given[p.when] ?? params.find((q) => q.name === p.when)?.default;
  return p.among.includes(String(chosen));
}

/** A panel drawn from a parameter schema: unit, range, default, group and help are the core's. */
export function ParamPanel(props: Props) {
  const groups = [...new Set(props.params.map((p) => p.group))];
  return groups.map((group) => {
    const shown = props.params.filter(
      (p) => p.group === group && !props.skip?.includes(p.name) && counts(p, props.params, props.given),
    );
    if (shown.length === 0) return null;
    return (
      <Section key={group} title={group}>
        {shown.map((p) => (
          <ParamRow
            key={p.name}
            param={p}
            value={props.given[p.name] ?? p.default}
            onChange={(v) => props.onChange(withParam(props.given, p, v), p.label)}
            onDraft={props.onDraft && ((v) => props.onDraft!(withParam(props.given, p, v)))}
          />
        ))}
      </Section>
    );
  });
}

function ParamRow(props: {
  param: Param;
  value: unknown;
  onChange: (value: unknown) => void;
  onDraft?: (value: unknown) => void;
}) {
  const { param: p, value } = props;
  const number = {
    label: p.label,
    help: p.help,
    unit: p.unit,
    low: p.low,
    high: p.high,
    step: p.step,
    standard: Number(p.default),
  };
  switch (p.type) {
    case "switch":
      return <Switch label={p.label} help={p.help} checked={Boolean(value)} onChange={props.onChange} />;
    case "number":
      return p.keyable ? (
        <KeyedField {...number} value={value as Value} onChange={props.onChange} onDraft={props.onDraft} />
      ) : (
        <NumberField {...number} value={Number(value)} onCommit={props.onChange} onDraft={props.onDraft} />
      );
    case "choice":
      return (
        <Select
          label={p.label}
          help={p.help}
          value={String(value)}
          options={p.choices}
          onChange={props.onChange}
        />
      );
    case "colour":
      return (
        <label className="flex items-center justify-between py-0.5">
          <Hint text={p.help}>
            <span>{p.label}</span>
          </Hint>
          <input
            type="color"
            aria-label={p.label}
            value={String(value)}
            onChange={(e) => props.onChange(e.target.value)}
            className="h-6 w-16 rounded border border-line bg-ground"
          />
        </label>
      );
    case "points": {
      const moved = (value as unknown[]).length;
      return (
        <div className="flex items-center justify-between gap-1 py-0.5">
          <Hint text={p.help}>
            <span>{p.label}</span>
          </Hint>
          <span className="flex gap-1">
            {[3, 5].map((side) => (
              <Button
                key={side}
                pressed={moved === side * side}
                title={`${side} by ${side} points, to be dragged in a view`}
                onClick={() => props.onChange(Array.from({ length: side * side }, () => [0, 0]))}
              >
                {side} x {side}
              </Button>
            ))}
            <Button disabled={moved === 0} onClick={() => props.onChange(p.default)}>
              None
            </Button>
          </span>
        </div>
      );
    }
    default:
      return null; // artwork, names and vectors have places of their own in a card
  }
}
