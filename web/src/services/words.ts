// What the page of services says, and what it sends.
import type { S } from "../shared/api";

type Stand = S["ServiceStand"];

/** The badge of where a service stands. */
export const tone: Record<Stand["stands"], string> = {
  here: "kept",
  moving: "running",
  both: "pass",
  withdrawing: "running",
  gone: "not-applicable",
  unclear: "failed",
};

/** Where a service stands, in a few words. */
export function standing(x: Stand): string {
  const at = x.as && x.as !== x.name ? `${x.to} as ${x.as}` : (x.to ?? "");
  switch (x.stands) {
    case "moving":
      return `goes to ${at}`;
    case "both":
      return `on ${at} as well`;
    case "withdrawing":
      return "is taken off";
    case "gone":
      return at ? `on ${at}` : "taken off";
    case "unclear":
      return "a change failed";
    case "here":
      return "";
  }
}

/** The change by which a service moves. */
export const changeOf = (x: Stand) => (x.stands === "withdrawing" || x.stands === "gone" ? x.off : x.put);

const order: Stand["stands"][] = ["here", "moving", "both", "withdrawing", "gone", "unclear"];

/** How many stand where. */
export const counts = (l: Record<string, number>) =>
  order
    .filter((s) => l[s])
    .map((s) => `${l[s]} ${s}`)
    .join(", ");

/** What is to be done with the objects that go along: another name, or one that the other gateway has. */
export type Treat = { rename: Record<string, string>; use: Record<string, string> };

/** The wish that a page sends. Empty fields say nothing. */
export function wishOf(
  from: string,
  to: string,
  services: string[],
  treat: Treat,
  checks: string,
  more: { sameKey?: boolean; unproven?: boolean },
): S["ServicesWish"] {
  const said = (m: Record<string, string>) => {
    const l = Object.entries(m).filter(([, v]) => v.trim());
    return l.length ? Object.fromEntries(l.map(([k, v]) => [k, v.trim()])) : undefined;
  };
  const targets = checks
    .split("\n")
    .map((c) => c.trim())
    .filter(Boolean);
  const checked = targets.length ? targets : undefined;
  if (!to) return { device: from, services, checks: checked, unproven: more.unproven || undefined };
  return {
    device: to,
    from,
    services,
    rename: said(treat.rename),
    use: said(treat.use),
    checks: checked,
    sameKey: more.sameKey || undefined,
  };
}
