import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { Tooltip } from "radix-ui";
import type { ReactNode } from "react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { ParamPanel } from "../features/ParamPanel";
import { OutlineList } from "../features/drape/OutlineList";
import type { Schema } from "../api/client";
import { Choice, NumberField, Switch, TextField, Verdict } from "./controls";

const shown = (node: ReactNode) => render(<Tooltip.Provider>{node}</Tooltip.Provider>);
afterEach(cleanup);

describe("a number", () => {
  const field = (onCommit: (v: number) => void, value = 4) =>
    shown(
      <NumberField
        label="Feather"
        value={value}
        onCommit={onCommit}
        low={0}
        high={10}
        step={0.5}
        standard={3}
        unit="px"
      />,
    );

  it("is typed, held inside its range, and refused when it is none", () => {
    const commit = vi.fn();
    field(commit);
    const input = screen.getByLabelText("Feather");
    fireEvent.change(input, { target: { value: "25" } });
    fireEvent.keyDown(input, { key: "Enter" });
    expect(commit).toHaveBeenLastCalledWith(10);
    fireEvent.change(input, { target: { value: "soft" } });
    fireEvent.blur(input);
    expect((input as HTMLInputElement).value).toBe("4");
    expect(commit).toHaveBeenCalledTimes(1);
  });
  it("takes a decimal comma", () => {
    const commit = vi.fn();
    field(commit);
    fireEvent.change(screen.getByLabelText("Feather"), { target: { value: "2,5" } });
    fireEvent.blur(screen.getByLabelText("Feather"));
    expect(commit).toHaveBeenCalledWith(2.5);
  });
  it("is stepped with arrows, tenfold with shift, and reset", () => {
    const commit = vi.fn();
    field(commit);
    const input = screen.getByLabelText("Feather");
    fireEvent.keyDown(input, { key: "ArrowUp" });
    expect(commit).toHaveBeenLastCalledWith(4.5);
    fireEvent.keyDown(input, { key: "ArrowDown", shiftKey: true });
    expect(commit).toHaveBeenLastCalledWith(0);
    fireEvent.click(screen.getByLabelText("Reset Feather"));
    expect(commit).toHaveBeenLastCalledWith(3);
  });
  it("shows no reset at its standard value", () => {
    field(() => {}, 3);
    expect(screen.queryByLabelText("Reset Feather")).toBeNull();
  });
});

describe("small controls", () => {
  it("choose by role and name", () => {
    const change = vi.fn();
    const options = [
      { value: "a", text: "Original" },
      { value: "b", text: "Result" },
    ];
    shown(<Choice label="What is seen" value="a" options={options} onChange={change} />);
    fireEvent.click(screen.getByRole("radio", { name: "Result" }));
    expect(change).toHaveBeenCalledWith("b");
    expect(screen.getByRole("radio", { name: "Original" }).getAttribute("aria-checked")).toBe("true");
  });
  it("switch", () => {
    const change = vi.fn();
    shown(<Switch label="Perspective" checked={false} onChange={change} />);
    fireEvent.click(screen.getByRole("switch", { name: "Perspective" }));
    expect(change).toHaveBeenCalledWith(true);
  });
  it("commit text when it is left, once", () => {
    const commit = vi.fn();
    shown(<TextField label="Name" value="skin 1" onCommit={commit} />);
    const input = screen.getByLabelText("Name");
    fireEvent.blur(input);
    expect(commit).not.toHaveBeenCalled();
    fireEvent.change(input, { target: { value: "brow" } });
    fireEvent.blur(input);
    expect(commit).toHaveBeenCalledWith("brow");
  });
  it("judge by shape and word, not by colour alone", () => {
    shown(<Verdict verdict="caution" />);
    expect(screen.getByText(/needs a look/).textContent).toContain("▲");
  });
});

describe("a panel drawn from a schema", () => {
  const param = (more: Partial<Schema["Param"]>): Schema["Param"] => ({
    name: "light",
    type: "number",
    label: "Light match",
    help: "h",
    group: "Belonging",
    unit: "",
    low: 0,
    high: 1,
    step: 0.01,
    choices: [],
    keyable: true,
    when: "",
    among: [],
    default: 1,
    ...more,
  });

  it("writes only what differs from the default", () => {
    const change = vi.fn();
    shown(<ParamPanel params={[param({})]} given={{ light: 0.5 }} onChange={change} />);
    fireEvent.click(screen.getByLabelText("Reset Light match"));
    expect(change).toHaveBeenCalledWith({}, "Light match");
  });
  it("groups, skips and shows keyed values plainly", () => {
    const params = [
      param({}),
      param({ name: "hold", type: "switch", label: "Hold", group: "Skin", default: true }),
      param({ name: "donor" }),
    ];
    shown(
      <ParamPanel
        params={params}
        given={{ light: { keys: { "1": 0, "9": 1 } } }}
        skip={["donor"]}
        onChange={() => {}}
      />,
    );
    expect(screen.getByText("this frame")).toBeTruthy();
    expect(screen.getByText("2")).toBeTruthy();
    expect(screen.getByRole("switch", { name: "Hold" })).toBeTruthy();
    expect(screen.getAllByRole("heading").map((h) => h.textContent)).toEqual(["Belonging", "Skin"]);
  });
});

describe("an outline as a list", () => {
  it("is the keyboard's way to what is dragged", () => {
    const change = vi.fn();
    const outline = {
      points: [
        [0, 0],
        [10, 0],
        [10, 10],
        [0, 10],
      ] as [number, number][],
      corners: [false, false, false, false],
    };
    shown(<OutlineList outline={outline} onChange={change} />);
    fireEvent.click(screen.getAllByText("make corner")[1]!);
    expect(change.mock.calls[0]![0].corners).toEqual([false, true, false, false]);
    fireEvent.click(screen.getAllByText("add after")[3]!);
    expect(change.mock.calls[1]![0].points[4]).toEqual([0, 5]);
    fireEvent.click(screen.getAllByText("remove")[0]!);
    expect(change.mock.calls[2]![0].points).toHaveLength(3);
  });
});
