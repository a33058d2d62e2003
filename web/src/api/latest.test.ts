import { describe, expect, it } from "vitest";
import { latest } from "./latest";

/** A sender whose sends end when told. */
function held() {
  const sent: number[] = [];
  const ends: (() => void)[] = [];
  const send = latest<number>((value) => {
    sent.push(value);
    return new Promise<void>((end) => ends.push(end));
  });
  return { sent, ends, send };
}

const turn = () => new Promise((done) => setTimeout(done, 0));

describe("latest", () => {
  it("sends one at a time and leaves out what was overtaken", async () => {
    const { sent, ends, send } = held();
    const first = send(1);
    void send(2);
    void send(3);
    expect(sent).toEqual([1]);
    ends[0]!();
    await turn();
    expect(sent).toEqual([1, 3]);
    ends[1]!();
    await first;
    void send(4);
    expect(sent).toEqual([1, 3, 4]);
  });

  it("sends what waits when the page closes", () => {
    const { sent, send } = held();
    void send(1);
    void send(2);
    window.dispatchEvent(new Event("pagehide"));
    expect(sent).toEqual([1, 2]);
  });

  it("tells a fault and goes on with the next", async () => {
    let fail = true;
    const sent: number[] = [];
    const send = latest<number>((value) => {
      sent.push(value);
      return fail ? Promise.reject(new Error("no")) : Promise.resolve();
    });
    await expect(send(1)).rejects.toThrow("no");
    fail = false;
    await send(2);
    expect(sent).toEqual([1, 2]);
  });
});
