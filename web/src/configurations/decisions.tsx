// What people decide in a conversion: answers, ports, hand edits.
import { useEffect, useState } from "react";
import { type PortChoice } from "../shared/api";
import { time } from "../shared/format";
import { Sign } from "../shared/marks";
import { Button, Muted } from "../shared/ui";
import { type SideProps } from "./parts";

export function Decisions({ c, busy, change, jump }: SideProps) {
  if (c.ledger.questions.length === 0) return <p>No rule asks for a decision.</p>;
  return (
    <ul className="space-y-4">
      {c.ledger.questions.map((q) => (
        <li key={q.rule + q.path}>
          <button type="button" className="text-left font-semibold underline" onClick={() => jump(q.line, 0)}>
            {q.path}, line {q.line}
          </button>
          <p>{q.text}</p>
          <div className="mt-1 space-y-1">
            {q.choices.map((a) => (
              <label key={a.answer} className="flex gap-2">
                <input
                  type="radio"
                  name={q.rule + q.path}
                  disabled={busy}
                  checked={q.answer === a.answer}
                  onChange={() => change({ answers: { [`${q.rule} @ ${q.path}`]: a.answer } })}
                />
                {a.text}
              </label>
            ))}
            {c.ledger.questions.filter((x) => x.rule === q.rule).length > 1 &&
              q.choices.map((a) => (
                <Button key={a.answer} disabled={busy} onClick={() => change({ answers: { [q.rule]: a.answer } })}>
                  {a.answer} for all like it
                </Button>
              ))}
          </div>
        </li>
      ))}
    </ul>
  );
}

export function Ports({ c, busy, change }: SideProps) {
  const [draft, setDraft] = useState<PortChoice[]>(c.ledger.ports);
  useEffect(() => setDraft(c.ledger.ports), [c.ledger.ports]);
  const speed = (ports: typeof c.sourcePorts, name?: string) => {
    const p = ports.find((x) => x.name === name);
    return p ? `${p.speed} Mbit/s${p.role ? `, ${p.role}` : ""}` : "";
  };
  const set = (port: string, value: string) =>
    setDraft(
      draft.map((d) =>
        d.port !== port
          ? d
          : {
              port,
              sure: false,
              chosen: true,
              ...(value === "leave"
                ? { leaveOut: d.leaveOut || "not wanted on the new box" }
                : value.startsWith("fold ")
                  ? { foldInto: value.slice(5) }
                  : { to: value }),
            },
      ),
    );
  const chosen = draft.map(({ port, to, foldInto, leaveOut }) => ({
    port,
    to,
    foldInto,
    leaveOut,
    sure: false,
    chosen: true,
  }));
  return (
    <>
      <p className="mb-2 text-xs">Every port is mapped, folded into another, or left out on purpose.</p>
      <table className="w-full">
        <thead>
          <tr>
            <th>Port</th>
            <th>On {c.to.split("@")[0]}</th>
          </tr>
        </thead>
        <tbody>
          {draft.map((d) => (
            <tr key={d.port} className="border-t border-line align-top dark:border-nightline">
              <td>
                <b>{d.port}</b>
                <span className="block text-xs text-slate-600 dark:text-slate-400">{speed(c.sourcePorts, d.port)}</span>
              </td>
              <td>
                <select
                  aria-label={`Port ${d.port} goes to`}
                  className="w-full rounded-sm border border-slate-400 bg-transparent px-1 py-0.5 dark:border-slate-600 dark:bg-deck"
                  value={d.leaveOut ? "leave" : d.foldInto ? `fold ${d.foldInto}` : (d.to ?? "")}
                  onChange={(e) => set(d.port, e.target.value)}
                >
                  <option value="" disabled>
                    choose
                  </option>
                  {c.targetPorts.map((p) => (
                    <option key={p.name} value={p.name}>
                      {p.name}, {p.speed} Mbit/s{p.role && `, ${p.role}`}
                    </option>
                  ))}
                  {draft
                    .filter((x) => x.to && x.port !== d.port)
                    .map((x) => (
                      <option key={x.port} value={`fold ${x.to}`}>
                        folded into {x.to}, with {x.port}
                      </option>
                    ))}
                  <option value="leave">left out</option>
                </select>
                {d.leaveOut !== undefined && d.leaveOut !== "" && (
                  <input
                    aria-label={`Why ${d.port} is left out`}
                    value={d.leaveOut}
                    onChange={(e) =>
                      setDraft(draft.map((x) => (x.port === d.port ? { ...x, leaveOut: e.target.value } : x)))
                    }
                    className="mt-1 w-full rounded-sm border border-slate-400 bg-transparent px-1 dark:border-slate-600"
                  />
                )}
                <span className="block text-xs text-slate-600 dark:text-slate-400">
                  {d.chosen ? "chosen" : `proposed: ${d.why}`}
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Button
        className="mt-3"
        kind="main"
        disabled={busy || draft.some((d) => !d.to && !d.foldInto && !d.leaveOut)}
        onClick={() => change({ ports: chosen })}
      >
        Confirm this mapping
      </Button>
    </>
  );
}

export function Edits({ c, busy, change }: SideProps) {
  if (c.ledger.edits.length === 0)
    return (
      <p>Nothing was changed by hand. Edit the result on the right and keep it; each change can be undone by itself.</p>
    );
  const words: Record<string, string> = {
    set: "changed",
    add: "added",
    remove: "removed",
    order: "moved in its block",
  };
  return (
    <ul className="space-y-3">
      {c.ledger.edits.map((e) => (
        <li key={e.id} className="flex gap-2">
          <Sign of="hand" />
          <span className="min-w-0 grow">
            <b>{e.path || "at the top"}</b> {words[e.kind]}
            <pre className="font-mono text-xs whitespace-pre-wrap">{e.text}</pre>
            <Muted small>
              {e.by}
              {e.at && `, ${time(e.at)}`}
            </Muted>
          </span>
          <Button disabled={busy} aria-label={`Undo edit ${e.id}`} onClick={() => change({ undo: e.id })}>
            Undo
          </Button>
        </li>
      ))}
    </ul>
  );
}
