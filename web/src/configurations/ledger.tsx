// The ledger of a conversion.
import { useState } from "react";
import { type Conversion } from "../shared/api";
import { counted, Sign } from "../shared/marks";
import { Button, Muted } from "../shared/ui";
import { type SideProps, type Tab } from "./parts";

type SourceRow = Conversion["ledger"]["source"][number];

export const states = ["needs-person", "dropped", "changed", "merged", "moved", "kept"];

const leftOut = "left out"; // what the source leaves out and its device assumes

export function Ledger({ c, jump, change, busy, show }: SideProps & { show: (t: Tab) => void }) {
  const open = c.ledger.assumed.filter((r) => r.state === "needs-person");
  const count = (s: string) => (c.ledger.counts[s] ?? 0) + (s === "needs-person" ? open.length : 0);
  const [state, setState] = useState(states.find(count) ?? "kept");
  const [many, setMany] = useState(200);
  const rows: (SourceRow & { inside?: string[]; same?: { text: string } })[] =
    state === leftOut
      ? c.ledger.assumed
      : [...c.ledger.source.filter((r) => r.state === state), ...(state === "needs-person" ? open : [])];
  const notes = c.ledger.comments.filter((n) => n.doubt || n.state === "dropped");
  const ruleText = (rules?: string) => c.ledger.rules[rules?.split(", ").at(-1) ?? ""] ?? "";
  return (
    <>
      <div className="mb-3 flex flex-wrap gap-1" role="group" aria-label="What became of the source">
        {states.map((s) => (
          <button
            key={s}
            type="button"
            aria-pressed={state === s}
            onClick={() => {
              setState(s);
              setMany(200);
            }}
            className={`flex items-center gap-1 rounded-sm border px-1.5 py-0.5 text-xs ${state === s ? "border-ink font-semibold dark:border-slate-200" : "border-line dark:border-nightline"}`}
          >
            <Sign of={s} />
            {counted(s, count(s))}
          </button>
        ))}
        {c.ledger.assumed.length > 0 && (
          <button
            type="button"
            aria-pressed={state === leftOut}
            onClick={() => {
              setState(leftOut);
              setMany(200);
            }}
            className={`flex items-center gap-1 rounded-sm border px-1.5 py-0.5 text-xs ${state === leftOut ? "border-ink font-semibold dark:border-slate-200" : "border-line dark:border-nightline"}`}
          >
            <Sign of="default" />
            {c.ledger.assumed.length} left out, defaults
          </button>
        )}
      </div>
      <ul className="space-y-2">
        {rows.slice(0, many).map((r) => {
          const target = c.ledger.target[r.targets[0]];
          return (
            <li key={`${r.line}:${r.column}:${r.inside?.join(" / ") ?? ""}`}>
              <button
                type="button"
                className="flex w-full gap-2 rounded-sm text-left hover:bg-slate-100 dark:hover:bg-slate-700"
                onClick={() => jump(r.line, target?.line ?? 0)}
              >
                <Sign of={r.state} />
                <span className="min-w-0">
                  <b className="break-words">{r.path}</b>{" "}
                  <Muted small>
                    {r.inside ? "left out" : `line ${r.line}`}
                    {target && `, now ${r.inside ? "line " : ""}${target.line}`}
                    {r.same && ", and left out of the result"}
                  </Muted>
                  <code className="block text-xs break-words">
                    {r.text}
                    {r.same && r.same.text !== r.text && <> → {r.same.text}</>}
                    {target && target.text !== r.text && (
                      <> → {r.targets.map((k) => c.ledger.target[k].text).join(" | ")}</>
                    )}
                  </code>
                  {(r.reason || (r.state !== "kept" && ruleText(r.rule))) && (
                    <span className="block text-xs text-slate-600 dark:text-slate-400">
                      {r.reason || ruleText(r.rule)}
                    </span>
                  )}
                </span>
              </button>
              {r.ask === "accept" && (
                <Button
                  className="mt-1 ml-7"
                  disabled={busy}
                  onClick={() => change({ answers: { [`guarded @ ${r.path}`]: "accept" } })}
                >
                  Accept this guarded difference
                </Button>
              )}
              {r.ask === "answer" && (
                <Button className="mt-1 ml-7" onClick={() => show("decisions")}>
                  Decide
                </Button>
              )}
              {r.ask === "ports" && (
                <Button className="mt-1 ml-7" onClick={() => show("ports")}>
                  Map its port
                </Button>
              )}
              {r.ask === "secret" && <Secret path={r.path} busy={busy} change={change} />}
              {r.ask === "settle" && <Settle path={r.path} busy={busy} change={change} />}
              {r.reason?.startsWith("settled by hand") && (
                <Button
                  className="mt-1 ml-7"
                  disabled={busy}
                  onClick={() => change({ answers: { [`settled @ ${r.path}`]: "" } })}
                >
                  It is not settled
                </Button>
              )}
            </li>
          );
        })}
      </ul>
      {rows.length > many && (
        <Button className="mt-3" onClick={() => setMany(many + 500)}>
          {rows.length - many} more
        </Button>
      )}
      {rows.length === 0 && <p>None.</p>}
      {notes.length > 0 && (
        <details className="mt-4">
          <summary className="cursor-pointer">Comments that are dropped or may be untrue now: {notes.length}</summary>
          <ul className="mt-1 space-y-2">
            {notes.map((n, i) => (
              <li key={i}>
                <button type="button" className="flex gap-2 text-left" onClick={() => jump(n.line, n.target ?? 0)}>
                  <Sign of={n.doubt ? "changed" : "dropped"} />
                  <span>
                    <code className="text-xs break-words"># {n.text}</code>{" "}
                    <Muted small>
                      line {n.line}; {n.reason}
                    </Muted>
                  </span>
                </button>
              </li>
            ))}
          </ul>
        </details>
      )}
    </>
  );
}

/** Says of something open that it is settled, and why: by a hand edit elsewhere, or because it is left out on purpose. */
/** A secret under a key of the old device: it is typed in again, or both devices have the same key. */
function Secret({ path, busy, change }: { path: string; busy: boolean; change: SideProps["change"] }) {
  const [text, setText] = useState("");
  return (
    <form
      className="mt-1 ml-7 flex flex-wrap gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        change({ answers: { [`secret @ ${path}`]: text } });
        setText("");
      }}
    >
      <input
        type="password"
        autoComplete="off"
        aria-label={`${path}, typed in again`}
        name="secret-again"
        placeholder="type it in again"
        value={text}
        onChange={(e) => setText(e.target.value)}
        className="min-w-0 grow rounded-sm border border-slate-400 bg-transparent px-2 dark:border-slate-600"
      />
      <Button type="submit" disabled={busy || !text}>
        Keep it
      </Button>
      <Button disabled={busy} onClick={() => change({ answers: { "own-key": "same" } })}>
        Both devices have the same key
      </Button>
    </form>
  );
}

function Settle({ path, busy, change }: { path: string; busy: boolean; change: SideProps["change"] }) {
  const [why, setWhy] = useState("");
  return (
    <form
      className="mt-1 ml-7 flex gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        change({ answers: { [`settled @ ${path}`]: why.trim() } });
      }}
    >
      <input
        aria-label={`Why ${path} is settled`}
        name="settled"
        placeholder="settled, because"
        value={why}
        onChange={(e) => setWhy(e.target.value)}
        className="min-w-0 grow rounded-sm border border-slate-400 bg-transparent px-2 dark:border-slate-600"
      />
      <Button type="submit" disabled={busy || !why.trim()}>
        Settled
      </Button>
    </form>
  );
}
