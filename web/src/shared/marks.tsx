// How what became of a statement is shown: a sign and words with every colour, the same as in reports.
export const marks: Record<string, { sign: string; words: string; look: string }> = {
  "needs-person": { sign: "?", words: "needs a person", look: "bg-black text-white dark:bg-white dark:text-black" },
  dropped: { sign: "×", words: "dropped", look: "bg-[#d55e00] text-white" },
  changed: { sign: "~", words: "changed", look: "bg-[#e69f00] text-black" },
  merged: { sign: "&", words: "merged", look: "bg-[#cc79a7] text-black" },
  moved: { sign: ">", words: "moved", look: "bg-[#56b4e9] text-black" },
  kept: { sign: "=", words: "kept", look: "bg-slate-200 text-black dark:bg-slate-600 dark:text-white" },
  unsaid: { sign: "_", words: "assumed alike", look: "bg-slate-200 text-black dark:bg-slate-600 dark:text-white" },
  added: { sign: "+", words: "added", look: "bg-[#0072b2] text-white" },
  removed: { sign: "-", words: "removed", look: "bg-[#d55e00] text-white" },
  renamed: { sign: "@", words: "renamed", look: "bg-[#56b4e9] text-black" },
  reordered: { sign: "#", words: "reordered", look: "bg-[#56b4e9] text-black" },
  "default-explicit": {
    sign: "*",
    words: "default written out",
    look: "bg-slate-200 text-black dark:bg-slate-600 dark:text-white",
  },
  "default-dropped": {
    sign: "*",
    words: "default left out",
    look: "bg-slate-200 text-black dark:bg-slate-600 dark:text-white",
  },
  cosmetic: { sign: ".", words: "cosmetic", look: "bg-slate-200 text-black dark:bg-slate-600 dark:text-white" },
  default: { sign: "*", words: "from a default", look: "bg-slate-200 text-black dark:bg-slate-600 dark:text-white" },
  rule: { sign: "+", words: "from a rule", look: "bg-[#0072b2] text-white" },
  hand: { sign: "!", words: "by hand", look: "bg-[#f0e442] text-black" },
  "carries-over": {
    sign: "=",
    words: "carries over",
    look: "bg-slate-200 text-black dark:bg-slate-600 dark:text-white",
  },
  "with-changes": { sign: "~", words: "with changes", look: "bg-[#e69f00] text-black" },
  "not-supported": { sign: "×", words: "not supported", look: "bg-[#d55e00] text-white" },
};

export function Sign({ of }: { of: string }) {
  const m = marks[of] ?? marks.kept;
  return (
    <span
      className={`inline-block w-5 shrink-0 self-start rounded-sm text-center font-mono text-xs leading-5 font-bold ${m.look}`}
      title={m.words}
      aria-hidden
    >
      {m.sign}
    </span>
  );
}

/** What there is of each kind: "11 need a person". */
export const counted = (kind: string, n: number) =>
  `${n} ${kind === "needs-person" && n !== 1 ? "need a person" : marks[kind].words}`;
