// What the page of media says.
import type { S } from "../shared/api";

type Medium = S["Medium"];

export const tone: Record<Medium["state"], string> = {
  "being-made": "running",
  "not-made": "failed",
  unconfirmed: "degraded",
  good: "pass",
  damaged: "failed",
  retired: "not-applicable",
};

export const covers: Record<S["MediumCover"]["state"], string> = {
  none: "failed",
  doubt: "degraded",
  old: "degraded",
  good: "pass",
};

/** How old a medium is, in whole days. */
export function age(writtenAt: string | undefined, now: number): string {
  if (!writtenAt) return "";
  const days = Math.floor((now - Date.parse(writtenAt)) / 86400000);
  return days === 1 ? "1 day" : `${days} days`;
}

/** How many devices no medium is sure to bring back. */
export function summary(all: S["MediumCover"][]): string {
  const open = all.filter((c) => c.state !== "good").length;
  return open === 0
    ? "Every device has a medium that would bring it back as it is."
    : `${open} of ${all.length} devices have none that is sure to bring them back as they are.`;
}
