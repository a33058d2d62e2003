import type { Schema } from "../api/client";
import { NumberField, Section, Switch } from "../ui/controls";

type Param = Schema["Param"];
type Given = Record<string, unknown>;

/** A panel drawn from a parameter schema: unit, range, default, group and help are the core's. */
export function ParamPanel(props: {
  params: readonly Param[];
  given: Given;
  onChange: (given: Given, label: string) => void;
  skip?: readonly string[];
}) {
  const groups = [...new Set(props.params.map((p) => p.group))];
  const set = (p: Param, value: unknown) => {
    const next = { ...props.given };
    if (value === p.default) delete next[p.name];
    else next[p.name] = value;
    props.onChange(next, p.label);
  };
  return groups.map((group) => {
    const shown = props.params.filter((p) => p.group === group && !props.skip?.includes(p.name));
    if (shown.length === 0) return null;
    return (
      <Section key={group} title={group}>
        {shown.map((p) => {
          const value = props.given[p.name] ?? p.default;
          if (p.type === "switch")
            return (
              <Switch
                key={p.name}
                label={p.label}
                help={p.help}
                checked={Boolean(value)}
                onChange={(on) => set(p, on)}
              />
            );
          if (p.type === "number" && typeof value === "object" && value !== null)
            return (
              <div key={p.name} className="flex justify-between py-0.5">
                <span>{p.label}</span>
                <span className="num text-saffron">
                  keyed: {Object.keys((value as { keys: object }).keys).length}
                </span>
              </div>
            );
          if (p.type === "number")
            return (
              <NumberField
                key={p.name}
                label={p.label}
                help={p.help}
                value={Number(value)}
                unit={p.unit}
                low={p.low}
                high={p.high}
                step={p.step}
                standard={Number(p.default)}
                onCommit={(v) => set(p, v)}
              />
            );
          return null;
        })}
      </Section>
    );
  });
}
