import { Switch as RadixSwitch, Tooltip } from "radix-ui";
import { useEffect, useRef, useState, type ReactNode } from "react";

type ButtonKind = "main" | "plain" | "quiet";

export function Button(props: {
  children: ReactNode;
  onClick?: () => void;
  kind?: ButtonKind;
  disabled?: boolean;
  title?: string;
  pressed?: boolean;
  label?: string;
  type?: "button" | "submit";
}) {
  const kind = props.kind ?? "plain";
  const colours = {
    main: "bg-madder text-ground font-semibold hover:brightness-110",
    plain: "bg-raised text-ink border border-line hover:border-edge",
    quiet: "text-dim hover:text-bright hover:bg-raised",
  }[kind];
  const pressed = props.pressed ? " !border-madder !text-bright" : "";
  const button = (
    <button
      type={props.type ?? "button"}
      onClick={props.onClick}
      disabled={props.disabled}
      aria-label={props.label}
      aria-pressed={props.pressed}
      className={`rounded px-2 py-1 leading-tight whitespace-nowrap disabled:opacity-45 disabled:pointer-events-none ${colours}${pressed}`}
    >
      {props.children}
    </button>
  );
  return props.title ? <Hint text={props.title}>{button}</Hint> : button;
}

export function Hint({ text, children }: { text: string; children: ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          sideOffset={5}
          className="z-50 max-w-64 rounded border border-line bg-raised px-2 py-1 text-[12px] text-ink shadow-lg"
        >
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

export function Switch(props: {
  label: string;
  checked: boolean;
  onChange: (on: boolean) => void;
  help?: string;
  disabled?: boolean;
}) {
  const row = (
    <label className="flex items-center justify-between gap-2 py-0.5">
      <span className={props.disabled ? "text-dim" : ""}>{props.label}</span>
      <RadixSwitch.Root
        checked={props.checked}
        disabled={props.disabled}
        onCheckedChange={props.onChange}
        aria-label={props.label}
        className="relative h-4 w-7 rounded-full border border-edge bg-ground data-[state=checked]:border-verdigris data-[state=checked]:bg-verdigris/30"
      >
        <RadixSwitch.Thumb className="block size-3 translate-x-px rounded-full bg-dim data-[state=checked]:translate-x-3 data-[state=checked]:bg-verdigris" />
      </RadixSwitch.Root>
    </label>
  );
  return props.help ? <Hint text={props.help}>{row}</Hint> : row;
}

const clamp = (v: number, low?: number | null, high?: number | null): number =>
  Math.min(high ?? Infinity, Math.max(low ?? -Infinity, v));

/** A number that can be dragged, typed, stepped with arrows and reset. */
export function NumberField(props: {
  label: string;
  value: number;
  onCommit: (value: number) => void;
  onDraft?: (value: number) => void;
  unit?: string;
  low?: number | null;
  high?: number | null;
  step?: number | null;
  standard?: number;
  help?: string;
}) {
  const step = props.step ?? 1;
  const digits = Math.max(0, Math.min(4, -Math.floor(Math.log10(step))));
  const shown = (v: number) => String(Number(v.toFixed(digits)));
  const [text, setText] = useState(shown(props.value));
  const drag = useRef<{ x: number; from: number; last: number } | null>(null);
  useEffect(() => setText(shown(props.value)), [props.value]); // eslint-disable-line react-hooks/exhaustive-deps

  const commit = (value: number) => {
    const held = clamp(value, props.low, props.high);
    setText(shown(held));
    if (held !== props.value) props.onCommit(held);
  };
  const typed = () => {
    const value = Number(text.replace(",", "."));
    if (text.trim() === "" || !Number.isFinite(value)) setText(shown(props.value));
    else commit(value);
  };
  const changed = props.standard !== undefined && props.value !== props.standard;
  const name = (
    <span
      className="cursor-ew-resize truncate"
      onPointerDown={(e) => {
        e.currentTarget.setPointerCapture(e.pointerId);
        drag.current = { x: e.clientX, from: props.value, last: props.value };
      }}
      onPointerMove={(e) => {
        if (!drag.current) return;
        const fine = e.shiftKey ? 0.1 : 1;
        const value = clamp(
          drag.current.from + (e.clientX - drag.current.x) * step * fine,
          props.low,
          props.high,
        );
        drag.current.last = Math.round(value / step) * step;
        setText(shown(drag.current.last));
        props.onDraft?.(drag.current.last);
      }}
      onPointerUp={() => {
        const last = drag.current?.last;
        drag.current = null;
        if (last !== undefined) commit(last);
      }}
    >
      {props.label}
    </span>
  );
  return (
    <div className="flex items-center justify-between gap-2 py-0.5">
      {props.help ? <Hint text={props.help}>{name}</Hint> : name}
      <span className="flex items-center gap-1">
        {changed && (
          <button
            className="text-[11px] text-dim hover:text-bright"
            aria-label={`Reset ${props.label}`}
            onClick={() => commit(props.standard!)}
          >
            reset
          </button>
        )}
        <input
          aria-label={props.label}
          inputMode="decimal"
          className="num w-16 rounded border border-line bg-ground px-1 py-0.5 text-right"
          value={text}
          onChange={(e) => setText(e.target.value)}
          onBlur={typed}
          onKeyDown={(e) => {
            if (e.key === "Enter") typed();
            if (e.key === "Escape") setText(shown(props.value));
            if (e.key === "ArrowUp" || e.key === "ArrowDown") {
              e.preventDefault();
              const direction = e.key === "ArrowUp" ? 1 : -1;
              commit(props.value + direction * step * (e.shiftKey ? 10 : 1));
            }
          }}
        />
        <span className="w-6 text-[11px] text-dim">{props.unit ?? ""}</span>
      </span>
    </div>
  );
}

export function TextField(props: {
  label: string;
  value: string;
  onCommit: (text: string) => void;
  mono?: boolean;
  hint?: string;
}) {
  const [text, setText] = useState(props.value);
  useEffect(() => setText(props.value), [props.value]);
  const commit = () => text !== props.value && props.onCommit(text);
  return (
    <label className="flex items-center justify-between gap-2 py-0.5">
      <span className="shrink-0">{props.label}</span>
      <input
        aria-label={props.label}
        placeholder={props.hint}
        className={`w-44 min-w-0 rounded border border-line bg-ground px-1 py-0.5 ${props.mono ? "num" : ""}`}
        value={text}
        onChange={(e) => setText(e.target.value)}
        onBlur={commit}
        onKeyDown={(e) => e.key === "Enter" && commit()}
      />
    </label>
  );
}

/** A choice among few, all of them seen. */
export function Choice<T extends string>(props: {
  label: string;
  value: T;
  options: readonly { value: T; text: string; title?: string; disabled?: boolean }[];
  onChange: (value: T) => void;
  compact?: boolean;
}) {
  return (
    <div
      role="radiogroup"
      aria-label={props.label}
      className="flex overflow-hidden rounded border border-line"
    >
      {props.options.map((o) => (
        <button
          key={o.value}
          role="radio"
          aria-checked={o.value === props.value}
          disabled={o.disabled}
          title={o.title}
          onClick={() => props.onChange(o.value)}
          className={`flex-1 border-r border-line px-2 ${props.compact ? "py-0.5" : "py-1"} last:border-r-0 disabled:opacity-40 ${
            o.value === props.value
              ? "bg-raised text-bright shadow-[inset_0_-2px_0_var(--color-madder)]"
              : "text-dim hover:text-ink"
          }`}
        >
          {o.text}
        </button>
      ))}
    </div>
  );
}

export function Section(props: { title: string; children: ReactNode; aside?: ReactNode }) {
  return (
    <section className="border-b border-line px-3 py-2">
      <h3 className="mb-1 flex items-center justify-between text-[12px] font-semibold text-dim">
        {props.title}
        {props.aside}
      </h3>
      {props.children}
    </section>
  );
}

const VERDICTS = {
  pass: { mark: "●", word: "holds", colour: "text-verdigris" },
  caution: { mark: "▲", word: "needs a look", colour: "text-saffron" },
  fail: { mark: "■", word: "fails", colour: "text-fail" },
} as const;

/** A judgement: shape, colour and word together. */
export function Verdict({ verdict, word }: { verdict: keyof typeof VERDICTS; word?: string }) {
  const v = VERDICTS[verdict];
  return (
    <span className={`${v.colour} whitespace-nowrap`}>
      <span aria-hidden>{v.mark}</span> {word ?? v.word}
    </span>
  );
}

/** A choice among many, one of them seen. */
export function Select(props: {
  label: string;
  value: string;
  options: readonly string[];
  onChange: (value: string) => void;
  help?: string;
}) {
  const name = <span className="shrink-0">{props.label}</span>;
  return (
    <label className="flex items-center justify-between gap-2 py-0.5">
      {props.help ? <Hint text={props.help}>{name}</Hint> : name}
      <select
        aria-label={props.label}
        value={props.value}
        onChange={(e) => props.onChange(e.target.value)}
        className="min-w-0 rounded border border-line bg-ground px-1 py-0.5"
      >
        {props.options.map((o) => (
          <option key={o} value={o}>
            {o}
          </option>
        ))}
      </select>
    </label>
  );
}
