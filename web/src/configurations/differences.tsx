// The differences of two configurations.
import { type Difference } from "../shared/api";
import { marks, Sign } from "../shared/marks";

/** The differences of a comparison, guarded ones first. */
export function Differences({ of, onPick }: { of: Difference[]; onPick?: (d: Difference) => void }) {
  const shown = of.filter((d) => d.kind !== "cosmetic");
  const cosmetic = of.length - shown.length;
  return (
    <>
      {shown.length === 0 && <p>{cosmetic ? "Both mean the same." : "No difference."}</p>}
      <ul className="space-y-3">
        {shown.map((d, i) => (
          <li key={i}>
            <button
              type="button"
              className="flex w-full flex-wrap items-center gap-2 text-left"
              onClick={() => onPick?.(d)}
              disabled={!onPick}
            >
              <Sign of={d.kind} />
              <span>{marks[d.kind].words}</span>
              <b>{d.path}</b>
              {d.guarded && (
                <span className="rounded-sm border border-current px-1 text-xs font-semibold">
                  guarded: {d.guarded}
                </span>
              )}
              {d.secret && <span className="text-xs">(secret)</span>}
            </button>
            {d.note && <p className="ml-7 text-xs font-semibold">{d.note}</p>}
            {d.oldPath && d.oldPath !== d.path && (
              <p className="ml-7 text-xs text-slate-600 dark:text-slate-400">it was {d.oldPath}</p>
            )}
            {d.old && <Lines mark="-" line={d.oldLine} text={d.old} />}
            {d.new && <Lines mark="+" line={d.newLine} text={d.new} />}
          </li>
        ))}
      </ul>
      {cosmetic > 0 && shown.length > 0 && (
        <p className="mt-3 text-xs text-slate-600 dark:text-slate-400">
          {cosmetic} more differences are cosmetic: comments, blanks, quotes, or order where it does not matter.
        </p>
      )}
    </>
  );
}

function Lines({ mark, line, text }: { mark: string; line: number; text: string }) {
  return (
    <pre className="mt-1 ml-7 font-mono text-xs">
      <span className="mr-2 inline-block text-slate-600 select-none dark:text-slate-400">
        {mark} line {line}
      </span>
      {"\n"}
      {text.replace(/^/gm, "  ")}
    </pre>
  );
}

/** Which mark stands on which line. */
export function kindsOf(rows: { line: number; kind: string }[]): Map<number, string> {
  const weight = [
    "kept",
    "cosmetic",
    "moved",
    "default",
    "rule",
    "merged",
    "renamed",
    "reordered",
    "changed",
    "hand",
    "dropped",
    "added",
    "removed",
    "needs-person",
  ];
  const out = new Map<number, string>();
  for (const r of rows)
    if (r.line > 0 && weight.indexOf(r.kind) >= weight.indexOf(out.get(r.line) ?? "kept")) out.set(r.line, r.kind);
  return out;
}
