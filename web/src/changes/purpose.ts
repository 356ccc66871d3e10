// What a change is for: one union over its kinds, so that whoever shows a change handles each of them.
import type { Change, Path, S } from "../shared/api";

export type Purpose =
  | { kind: "firmware"; from: string; to: string; path: Path }
  | { kind: "back"; from: string; to: string; path: Path }
  | { kind: "operations"; runs: string }
  | { kind: "bring-up"; to: string }
  | { kind: "replace"; to: string; old: string }
  | { kind: "put-back" }
  | { kind: "swap"; to: string }
  | { kind: "medium"; label: string }
  | { kind: "move" | "withdraw"; from?: string; services: string[] }
  | { kind: "join" | "release"; controller: string; box: string }
  | { kind: "restore"; restore: S["RestoreSummary"] };

const noPath = { hops: [] } as unknown as Path;

export function purposeOf(c: Change): Purpose {
  switch (c.kind) {
    case "restore":
      return { kind: "restore", restore: c.restore ?? { backup: 0, parts: [], replacement: false } };
    case "operations":
      return { kind: "operations", runs: c.from };
    case "bring-up":
      return { kind: "bring-up", to: c.to };
    case "replace":
      return { kind: "replace", to: c.to, old: c.members?.[1]?.device ?? "" };
    case "put-back":
      return { kind: "put-back" };
    case "swap":
      return { kind: "swap", to: c.to };
    case "medium":
      return { kind: "medium", label: c.medium ?? "" };
    case "move":
    case "withdraw":
      return { kind: c.kind, from: c.services?.from, services: c.services?.services ?? [] };
    case "join":
    case "release":
      return { kind: c.kind, controller: c.members?.[0]?.device ?? "", box: c.members?.[1]?.device ?? "" };
    default:
      return { kind: c.kind, from: c.from, to: c.to, path: c.path ?? noPath };
  }
}

/** The path that a change goes along; nothing where it goes along none. */
export function pathOf(p: Purpose): Path | undefined {
  return (p.kind === "firmware" || p.kind === "back") && p.path.hops.length > 0 ? p.path : undefined;
}

/** A few names of a list. */
const few = (l: string[]) => l.slice(0, 4).join(", ") + (l.length > 4 ? ` and ${l.length - 4} more` : "");

/** By way of what a change gets where it goes, in a few words. */
export function byWayOf(p: Purpose): string {
  switch (p.kind) {
    case "restore":
      return `backup ${p.restore.backup} goes back`;
    case "operations":
      return "single operations";
    case "bring-up":
      return `is brought up on ${p.to}`;
    case "replace":
      return `takes the place of ${p.old}`;
    case "put-back":
      return "serves again";
    case "swap":
      return `is a prepared unit from now on, with ${p.to}`;
    case "medium":
      return `writes medium ${p.label}`;
    case "move":
      return `gets of ${p.from}: ${few(p.services)}`;
    case "withdraw":
      return `no longer serves ${few(p.services)}`;
    case "join":
      return `${p.box} comes under ${p.controller}`;
    case "release":
      return `${p.box} leaves ${p.controller} and stands alone`;
    case "back":
      return "the previous installation";
    case "firmware":
      return p.path.hops
        .slice(0, -1)
        .map((h) => h.to)
        .join(", ");
  }
}
