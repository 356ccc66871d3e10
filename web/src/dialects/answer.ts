// An answer in pieces: what a group of a pattern found, and what stands between.
import type { S } from "../shared/api";

export type Piece = { text: string; group?: string };

/** Cuts an answer at its marks. They count bytes of UTF-8; of marks inside each other the outer one is shown. */
export function pieces(answer: string, marks: S["DialectMark"][]): Piece[] {
  const bytes = new TextEncoder().encode(answer);
  const text = (from: number, to: number) => new TextDecoder().decode(bytes.subarray(from, to));
  const out: Piece[] = [];
  let at = 0;
  for (const m of marks.filter((m) => m.group).sort((a, b) => a.from - b.from || b.to - a.to)) {
    if (m.from < at || m.to > bytes.length) continue;
    if (m.from > at) out.push({ text: text(at, m.from) });
    out.push({ text: text(m.from, m.to), group: m.group });
    at = m.to;
  }
  if (at < bytes.length) out.push({ text: text(at, bytes.length) });
  return out;
}
