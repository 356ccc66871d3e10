// What the board shows of a change, worked out apart from how it is drawn.
import type { Change, S, Step } from "../shared/api";

type Timeline = S["Timeline"];

/** Steps during which a member serves nobody. */
const down = ["restart", "link", "login"];

export interface Bar {
  step: Step;
  from: number; // seconds after the start, as expected
  to: number;
  measured?: { from: number; to: number };
  down: boolean;
}

export interface Lane {
  member: number;
  device: string;
  stands: string; // role, version and sync, as they were last seen
  bars: Bar[];
}

/** The lanes of a change: one for each member; what concerns the whole stands in that of the first one. */
export function lanesOf(c: Change, t: Timeline): Lane[] {
  const members = c.members ?? [{ number: 1, device: c.device, role: "", from: c.from, to: c.to, waysBack: [] }];
  const measured = new Map((t.measured?.steps ?? []).map((w) => [w.number, w]));
  return members.map((m) => ({
    member: m.number,
    device: m.device,
    stands: [m.roleNow || (c.members ? "role not known" : ""), m.now, m.sync].filter(Boolean).join(", "),
    bars: t.expected.steps
      .filter((w) => members.length === 1 || w.member === m.number || (w.member === 0 && m.number === 1))
      .flatMap((w) => {
        const step = c.steps.find((s) => s.number === w.number);
        return step
          ? [{ step, from: w.from, to: w.to, measured: measured.get(w.number), down: down.includes(step.kind) }]
          : [];
      }),
  }));
}

/** How long the axis is: what is expected, or what it took. */
export const spanOf = (t: Timeline) => Math.max(t.expected.seconds, t.measured?.seconds ?? 0, 1);

/** What clients notice now: what was measured up to this moment has not ended. Nobody is named who notices nothing. */
export function affected(t: Timeline): string[] {
  const end = t.measured?.seconds ?? 0;
  return (t.measured?.clients ?? []).flatMap((n) =>
    n.parts.filter((p) => p.to >= end - 0.05).map((p) => `${n.clients}: ${noticed[p.effect]}, ${p.text}`),
  );
}

export const noticed: Record<S["TimelinePart"]["effect"], string> = {
  outage: "interrupted",
  degraded: "less than usual",
  unknown: "not known",
};

/** The step that the keyboard goes to from one: left and right within a lane, up and down to the one nearest in time. */
export function next(lanes: Lane[], lane: number, bar: number, key: string): [number, number] {
  const bars = lanes[lane].bars;
  switch (key) {
    case "ArrowLeft":
      return [lane, Math.max(bar - 1, 0)];
    case "ArrowRight":
      return [lane, Math.min(bar + 1, bars.length - 1)];
    case "Home":
      return [lane, 0];
    case "End":
      return [lane, bars.length - 1];
  }
  const other = lane + (key === "ArrowUp" ? -1 : key === "ArrowDown" ? 1 : 0);
  if (other === lane || !lanes[other]?.bars.length) return [lane, bar];
  const at = bars[bar].from;
  let best = 0;
  lanes[other].bars.forEach((b, i) => {
    if (Math.abs(b.from - at) < Math.abs(lanes[other].bars[best].from - at)) best = i;
  });
  return [other, best];
}
