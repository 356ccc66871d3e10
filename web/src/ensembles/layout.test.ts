import { describe, expect, it } from "vitest";
import type { Change, S } from "../shared/api";
import { affected, lanesOf, next, spanOf } from "./layout";

const step = (number: number, member: number, kind: string) =>
  ({ number, member, kind, title: kind, state: "waiting" }) as unknown as Change["steps"][number];

const change = {
  device: "a, b",
  from: "1",
  to: "2",
  members: [
    {
      number: 1,
      device: "a",
      role: "active",
      from: "1",
      to: "2",
      now: "1",
      roleNow: "active",
      sync: "complete",
      waysBack: [],
    },
    { number: 2, device: "b", role: "standby", from: "1", to: "2", waysBack: [] },
  ],
  steps: [step(1, 1, "send"), step(2, 2, "send"), step(3, 2, "restart"), step(4, 1, "restart"), step(5, 0, "verdict")],
} as unknown as Change;

const timeline: S["Timeline"] = {
  expected: {
    seconds: 100,
    steps: [
      { number: 1, member: 1, from: 0, to: 10 },
      { number: 2, member: 2, from: 0, to: 12 },
      { number: 3, member: 2, from: 12, to: 40 },
      { number: 4, member: 1, from: 45, to: 80 },
      { number: 5, member: 0, from: 80, to: 100 },
    ],
    clients: [
      {
        clients: "guests",
        outage: 5,
        degraded: 0,
        parts: [{ from: 45, to: 50, effect: "outage", text: "cut", member: 1 }],
      },
    ],
  },
};

describe("the board", () => {
  it("has a lane for each member, and the whole in the first one", () => {
    const lanes = lanesOf(change, timeline);
    expect(lanes.map((l) => [l.device, l.stands, l.bars.map((b) => b.step.number)])).toEqual([
      ["a", "active, 1, complete", [1, 4, 5]],
      ["b", "role not known", [2, 3]],
    ]);
    expect(lanes[1].bars[1].down).toBe(true);
  });

  it("is as long as it took, where that is longer", () => {
    expect(spanOf(timeline)).toBe(100);
    expect(spanOf({ ...timeline, measured: { seconds: 130, steps: [], clients: [] } })).toBe(130);
  });

  it("names who is affected now", () => {
    const cut = timeline.expected.clients;
    expect(affected(timeline)).toEqual([]);
    expect(affected({ ...timeline, measured: { seconds: 50, steps: [], clients: cut } })).toEqual([
      "guests: interrupted, cut",
    ]);
    expect(affected({ ...timeline, measured: { seconds: 51, steps: [], clients: cut } })).toEqual([]);
  });

  it("is walked with the keyboard", () => {
    const lanes = lanesOf(change, timeline);
    expect(next(lanes, 0, 0, "ArrowRight")).toEqual([0, 1]);
    expect(next(lanes, 0, 2, "ArrowRight")).toEqual([0, 2]);
    expect(next(lanes, 0, 1, "ArrowDown")).toEqual([1, 1]);
    expect(next(lanes, 1, 0, "ArrowDown")).toEqual([1, 0]);
    expect(next(lanes, 1, 1, "End")).toEqual([1, 1]);
    expect(next(lanes, 1, 1, "ArrowUp")).toEqual([0, 0]);
  });
});
