// What is said of replacements.
import type { S } from "../shared/api";

type Replacement = S["Replacement"];

/** How many statements a reason is about, and which is the first. */
export function counted(count: number, line: number, first: string): string {
  return count === 1 ? `line ${line}, ${first}` : `${count} statements, the first in line ${line}, ${first}`;
}

/** What became of the old device. */
export function oldOf(r: Replacement, ago: (when: string) => string): string {
  if (r.putBack !== undefined) return `${r.old} serves again, by change ${r.putBack}.`;
  if (r.releasedAt) return `${r.old} was released ${ago(r.releasedAt)} by ${r.releasedBy ?? "somebody"}.`;
  return r.kept ? `${r.old} is kept as it was: it is the way back.` : "";
}

/** What somebody has to do next; nothing when it is over. */
export function nextOf(r: Replacement): string {
  switch (r.state) {
    case "draft":
      return "Read the draft, and approve it.";
    case "approved":
      return "Start it when the window opens.";
    case "asking":
      return "It needs somebody: open the change.";
    case "paused":
    case "scheduled":
      return "It rests.";
    case "running":
    case "pausing":
      return "It is under way.";
    case "done":
      return r.kept ? "Release it once nobody needs it any more." : "";
    default:
      return "";
  }
}
