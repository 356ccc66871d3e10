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
