// What is said of units in stock.
import type { S } from "../shared/api";

type Cover = S["SpareCover"];

/** The mark of how well a device is covered. */
export const covers: Record<Cover["state"], string> = {
  prepared: "pass",
  stale: "degraded",
  "in-stock": "met",
  doubt: "not-proven",
  none: "fail",
};

/** The sites, each with its devices, those that lack most first. */
export function bySite(all: Cover[]): { site: string; devices: Cover[]; missing: number }[] {
  const sites = new Map<string, Cover[]>();
  for (const c of all) sites.set(c.site, [...(sites.get(c.site) ?? []), c]);
  return [...sites]
    .map(([site, devices]) => ({ site, devices, missing: devices.filter((d) => d.state === "none").length }))
    .sort((a, b) => b.missing - a.missing || a.site.localeCompare(b.site));
}

/** Words with dashes between them, as a person reads them. */
export const plain = (state: string) => state.replaceAll("-", " ");

/** The lines of a text that say something. */
export const linesOf = (text: string) =>
  text
    .split("\n")
    .map((l) => l.trim())
    .filter(Boolean);

/** How many devices are covered. Only a unit that is sure to do counts; a doubt is told as one. */
export function summary(all: Cover[]): string {
  const count = (...states: Cover["state"][]) => all.filter((c) => states.includes(c.state)).length;
  const none = count("none");
  const doubt = count("stale", "doubt");
  if (none + doubt === 0) return "Every device has a unit that is sure to stand in for it.";
  const parts = [
    `${count("prepared", "in-stock")} of ${all.length} devices have a unit that is sure to stand in for them`,
  ];
  if (doubt > 0) parts.push(`${doubt} ${doubt === 1 ? "has" : "have"} one that is out of date or in doubt`);
  if (none > 0) parts.push(`${none} ${none === 1 ? "has" : "have"} none`);
  return `${parts.join("; ")}.`;
}
