// The workbench of one conversion: source and result side by side, the ledger beside them, and what a person decides.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useParams } from "react-router-dom";
import { api, ask, pages, type Conversion, type ConversionChange, type Device, type PortChoice } from "./api";
import { kindsOf } from "./configurations";
import { time } from "./format";
import { counted, Sign } from "./marks";
import { SideBySide, type Jump } from "./sidebyside";
import { Badge, Button, Card, Trouble, Waiting } from "./ui";

type SourceRow = Conversion["ledger"]["source"][number];

const states = ["needs-person", "dropped", "changed", "merged", "moved", "kept"];
const leftOut = "left out"; // what the source leaves out and its device assumes

export function ConversionPage() {
  const id = Number(useParams().id);
  const queries = useQueryClient();
  const go = useNavigate();
  const key = ["conversion", id];
  const shown = useQuery({ queryKey: key, queryFn: () => ask(api.GET("/conversions/{id}", { params: { path: { id } } })) });
  const change = useMutation({
    mutationFn: (body: ConversionChange) => ask(api.PATCH("/conversions/{id}", { params: { path: { id } }, body })),
    onSuccess: (c) => queries.setQueryData(key, c),
  });
  const remove = useMutation({ mutationFn: () => ask(api.DELETE("/conversions/{id}", { params: { path: { id } } })), onSuccess: () => { queries.invalidateQueries({ queryKey: ["conversions"] }); go("/configurations"); } });
  const editors = useRef<Jump>(null);
  const [text, setText] = useState<string>();
  const [view, setView] = useState(0); // counted up, the editors begin again with what is kept
  const c = shown.data;
  useEffect(() => setText(undefined), [c?.resultText]);
  const kinds = useMemo(() => c && {
    left: kindsOf(c.ledger.source.map((s) => ({ line: s.line, kind: s.state }))),
    right: kindsOf(c.ledger.target.map((t) => ({ line: t.line, kind: t.origin === "source" ? (t.sources.map((k) => c.ledger.source[k].state).sort((a, b) => states.indexOf(a) - states.indexOf(b))[0] ?? "kept") : t.origin }))),
  }, [c]);
  if (shown.isPending) return <Waiting />;
  if (!c || !kinds) return <Trouble error={shown.error} />;
  const edited = text !== undefined && text !== c.resultText;
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-bold">{c.name}</h1>
        <span className="font-mono">{c.from} → {c.to}</span>
        <Badge state={c.complete ? "done" : "held"}>{c.complete ? "complete" : "needs a person"}</Badge>
        <span className="text-slate-600 dark:text-slate-400">{time(c.createdAt)}, {c.createdBy}</span>
        <span className="ml-auto flex items-center gap-2">
          <a className="underline" href={`/api/v1/conversions/${id}/report?format=html`} target="_blank" rel="noreferrer">Report</a>
          <a className="underline" href={`/api/v1/conversions/${id}/report?format=pdf`} target="_blank" rel="noreferrer">PDF</a>
          <Button disabled={remove.isPending} onClick={() => remove.mutate()}>Forget</Button>
        </span>
      </div>
      <p className="flex flex-wrap gap-3">{states.map((s) => <span key={s} className="flex items-center gap-1"><Sign of={s} />{counted(s, (c.ledger.counts[s] ?? 0) + (s === "needs-person" ? c.ledger.assumed.filter((r) => r.state === s).length : 0))}</span>)}</p>
      {c.ledger.guessed && <p className="font-semibold">No conversion is known between these two. What both describe alike is filled in; carry the rest over by hand, side by side.</p>}
      {edited && <p role="status" className="font-semibold">The result was edited. Keep or discard that first; then decisions, ports and edits can be changed again.</p>}
      <Trouble error={change.error ?? remove.error} />
      <div className="grid items-start gap-4 lg:grid-cols-[8fr_4fr]">
        <Card title={c.ledger.stages.map((s) => s.conversion).join(", then ")} aside={
          <span className="flex gap-2">
            {edited && <Button onClick={() => { setText(undefined); setView(view + 1); }}>Discard</Button>}
            <Button kind="main" disabled={!edited || change.isPending} onClick={() => change.mutate({ text })}>Keep hand edits</Button>
          </span>
        }>
          <SideBySide key={view} ref={editors} left={c.sourceText} right={c.resultText} leftKinds={kinds.left} rightKinds={kinds.right} names={[`Source, ${c.from}`, `Result, ${c.to} (you can edit it)`]} editable onEdit={setText} />
        </Card>
        <Side c={c} busy={change.isPending || edited} change={(b) => change.mutate(b)} jump={(l, r) => editors.current?.jump(l, r)} />
      </div>
    </>
  );
}

type SideProps = { c: Conversion; busy: boolean; change: (b: ConversionChange) => void; jump: (left: number, right: number) => void };
type Tab = "ledger" | "decisions" | "ports" | "edits" | "checks";

function Side(p: SideProps) {
  const { c } = p;
  const open = c.ledger.questions.filter((q) => !q.answer).length;
  const tabs: Record<Tab, string> = { ledger: "Ledger", decisions: `Decisions${open ? ` (${open} open)` : ""}`, ports: "Ports", edits: `Hand edits (${c.ledger.edits.length})`, checks: `Checks (${c.ledger.findings.length})` };
  const [tab, setTab] = useState<Tab>("ledger");
  return (
    <section className="rounded-md border border-line bg-white dark:border-nightline dark:bg-deck">
      <div role="tablist" aria-label="About this conversion" className="flex flex-wrap gap-1 border-b border-line p-2 dark:border-nightline">
        {(Object.keys(tabs) as Tab[]).filter((t) => t !== "ports" || c.ledger.ports.length > 0).map((t) => (
          <button key={t} type="button" role="tab" aria-selected={tab === t} onClick={() => setTab(t)} className={`rounded-sm px-2 py-1 ${tab === t ? "bg-ink text-white dark:bg-slate-200 dark:text-night" : "hover:bg-slate-100 dark:hover:bg-slate-700"}`}>{tabs[t]}</button>
        ))}
      </div>
      <div className="max-h-[64vh] overflow-y-auto p-3">
        {tab === "ledger" && <Ledger {...p} show={setTab} />}
        {tab === "decisions" && <Decisions {...p} />}
        {tab === "ports" && <Ports {...p} />}
        {tab === "edits" && <Edits {...p} />}
        {tab === "checks" && <Checks {...p} />}
      </div>
    </section>
  );
}

function Ledger({ c, jump, change, busy, show }: SideProps & { show: (t: Tab) => void }) {
  const open = c.ledger.assumed.filter((r) => r.state === "needs-person");
  const count = (s: string) => (c.ledger.counts[s] ?? 0) + (s === "needs-person" ? open.length : 0);
  const [state, setState] = useState(states.find(count) ?? "kept");
  const [many, setMany] = useState(200);
  const rows: (SourceRow & { inside?: string[]; same?: { text: string } })[] =
    state === leftOut ? c.ledger.assumed : [...c.ledger.source.filter((r) => r.state === state), ...(state === "needs-person" ? open : [])];
  const notes = c.ledger.comments.filter((n) => n.doubt || n.state === "dropped");
  const ruleText = (rules?: string) => c.ledger.rules[rules?.split(", ").at(-1) ?? ""] ?? "";
  return (
    <>
      <div className="mb-3 flex flex-wrap gap-1" role="group" aria-label="What became of the source">
        {states.map((s) => (
          <button key={s} type="button" aria-pressed={state === s} onClick={() => { setState(s); setMany(200); }} className={`flex items-center gap-1 rounded-sm border px-1.5 py-0.5 text-xs ${state === s ? "border-ink font-semibold dark:border-slate-200" : "border-line dark:border-nightline"}`}><Sign of={s} />{counted(s, count(s))}</button>
        ))}
        {c.ledger.assumed.length > 0 && <button type="button" aria-pressed={state === leftOut} onClick={() => { setState(leftOut); setMany(200); }} className={`flex items-center gap-1 rounded-sm border px-1.5 py-0.5 text-xs ${state === leftOut ? "border-ink font-semibold dark:border-slate-200" : "border-line dark:border-nightline"}`}><Sign of="default" />{c.ledger.assumed.length} left out, defaults</button>}
      </div>
      <ul className="space-y-2">
        {rows.slice(0, many).map((r) => {
          const target = c.ledger.target[r.targets[0]];
          return (
            <li key={`${r.line}:${r.column}:${r.inside?.join(" / ") ?? ""}`}>
              <button type="button" className="flex w-full gap-2 rounded-sm text-left hover:bg-slate-100 dark:hover:bg-slate-700" onClick={() => jump(r.line, target?.line ?? 0)}>
                <Sign of={r.state} />
                <span className="min-w-0">
                  <b className="break-words">{r.path}</b> <span className="text-xs text-slate-600 dark:text-slate-400">{r.inside ? "left out" : `line ${r.line}`}{target && `, now ${r.inside ? "line " : ""}${target.line}`}{r.same && ", and left out of the result"}</span>
                  <code className="block text-xs break-words">{r.text}{r.same && r.same.text !== r.text && <> → {r.same.text}</>}{target && target.text !== r.text && <> → {r.targets.map((k) => c.ledger.target[k].text).join(" | ")}</>}</code>
                  {(r.reason || (r.state !== "kept" && ruleText(r.rule))) && <span className="block text-xs text-slate-600 dark:text-slate-400">{r.reason || ruleText(r.rule)}</span>}
                </span>
              </button>
              {r.ask === "accept" && <Button className="mt-1 ml-7" disabled={busy} onClick={() => change({ answers: { [`guarded @ ${r.path}`]: "accept" } })}>Accept this guarded difference</Button>}
              {r.ask === "answer" && <Button className="mt-1 ml-7" onClick={() => show("decisions")}>Decide</Button>}
              {r.ask === "ports" && <Button className="mt-1 ml-7" onClick={() => show("ports")}>Map its port</Button>}
              {r.ask === "settle" && <Settle path={r.path} busy={busy} change={change} />}
              {r.reason?.startsWith("settled by hand") && <Button className="mt-1 ml-7" disabled={busy} onClick={() => change({ answers: { [`settled @ ${r.path}`]: "" } })}>It is not settled</Button>}
            </li>
          );
        })}
      </ul>
      {rows.length > many && <Button className="mt-3" onClick={() => setMany(many + 500)}>{rows.length - many} more</Button>}
      {rows.length === 0 && <p>None.</p>}
      {notes.length > 0 && (
        <details className="mt-4">
          <summary className="cursor-pointer">Comments that are dropped or may be untrue now: {notes.length}</summary>
          <ul className="mt-1 space-y-2">
            {notes.map((n, i) => (
              <li key={i}><button type="button" className="flex gap-2 text-left" onClick={() => jump(n.line, n.target ?? 0)}><Sign of={n.doubt ? "changed" : "dropped"} /><span><code className="text-xs break-words"># {n.text}</code> <span className="text-xs text-slate-600 dark:text-slate-400">line {n.line}; {n.reason}</span></span></button></li>
            ))}
          </ul>
        </details>
      )}
    </>
  );
}

/** Says of something open that it is settled, and why: by a hand edit elsewhere, or because it is left out on purpose. */
function Settle({ path, busy, change }: { path: string; busy: boolean; change: SideProps["change"] }) {
  const [why, setWhy] = useState("");
  return (
    <form className="mt-1 ml-7 flex gap-2" onSubmit={(e) => { e.preventDefault(); change({ answers: { [`settled @ ${path}`]: why.trim() } }); }}>
      <input aria-label={`Why ${path} is settled`} name="settled" placeholder="settled, because" value={why} onChange={(e) => setWhy(e.target.value)} className="min-w-0 grow rounded-sm border border-slate-400 bg-transparent px-2 dark:border-slate-600" />
      <Button type="submit" disabled={busy || !why.trim()}>Settled</Button>
    </form>
  );
}

function Decisions({ c, busy, change, jump }: SideProps) {
  if (c.ledger.questions.length === 0) return <p>No rule asks for a decision.</p>;
  return (
    <ul className="space-y-4">
      {c.ledger.questions.map((q) => (
        <li key={q.rule + q.path}>
          <button type="button" className="text-left font-semibold underline" onClick={() => jump(q.line, 0)}>{q.path}, line {q.line}</button>
          <p>{q.text}</p>
          <div className="mt-1 space-y-1">
            {q.choices.map((a) => (
              <label key={a.answer} className="flex gap-2"><input type="radio" name={q.rule + q.path} disabled={busy} checked={q.answer === a.answer} onChange={() => change({ answers: { [`${q.rule} @ ${q.path}`]: a.answer } })} />{a.text}</label>
            ))}
            {c.ledger.questions.filter((x) => x.rule === q.rule).length > 1 && q.choices.map((a) => <Button key={a.answer} disabled={busy} onClick={() => change({ answers: { [q.rule]: a.answer } })}>{a.answer} for all like it</Button>)}
          </div>
        </li>
      ))}
    </ul>
  );
}

function Ports({ c, busy, change }: SideProps) {
  const [draft, setDraft] = useState<PortChoice[]>(c.ledger.ports);
  useEffect(() => setDraft(c.ledger.ports), [c.ledger.ports]);
  const speed = (ports: typeof c.sourcePorts, name?: string) => { const p = ports.find((x) => x.name === name); return p ? `${p.speed} Mbit/s${p.role ? `, ${p.role}` : ""}` : ""; };
  const set = (port: string, value: string) => setDraft(draft.map((d) => (d.port !== port ? d : {
    port, sure: false, chosen: true,
    ...(value === "leave" ? { leaveOut: d.leaveOut || "not wanted on the new box" } : value.startsWith("fold ") ? { foldInto: value.slice(5) } : { to: value }),
  })));
  const chosen = draft.map(({ port, to, foldInto, leaveOut }) => ({ port, to, foldInto, leaveOut, sure: false, chosen: true }));
  return (
    <>
      <p className="mb-2 text-xs">Every port is mapped, folded into another, or left out on purpose.</p>
      <table className="w-full">
        <thead><tr><th>Port</th><th>On {c.to.split("@")[0]}</th></tr></thead>
        <tbody>
          {draft.map((d) => (
            <tr key={d.port} className="border-t border-line align-top dark:border-nightline">
              <td><b>{d.port}</b><span className="block text-xs text-slate-600 dark:text-slate-400">{speed(c.sourcePorts, d.port)}</span></td>
              <td>
                <select aria-label={`Port ${d.port} goes to`} className="w-full rounded-sm border border-slate-400 bg-transparent px-1 py-0.5 dark:border-slate-600 dark:bg-deck" value={d.leaveOut ? "leave" : d.foldInto ? `fold ${d.foldInto}` : (d.to ?? "")} onChange={(e) => set(d.port, e.target.value)}>
                  <option value="" disabled>choose</option>
                  {c.targetPorts.map((p) => <option key={p.name} value={p.name}>{p.name}, {p.speed} Mbit/s{p.role && `, ${p.role}`}</option>)}
                  {draft.filter((x) => x.to && x.port !== d.port).map((x) => <option key={x.port} value={`fold ${x.to}`}>folded into {x.to}, with {x.port}</option>)}
                  <option value="leave">left out</option>
                </select>
                {d.leaveOut !== undefined && d.leaveOut !== "" && <input aria-label={`Why ${d.port} is left out`} value={d.leaveOut} onChange={(e) => setDraft(draft.map((x) => (x.port === d.port ? { ...x, leaveOut: e.target.value } : x)))} className="mt-1 w-full rounded-sm border border-slate-400 bg-transparent px-1 dark:border-slate-600" />}
                <span className="block text-xs text-slate-600 dark:text-slate-400">{d.chosen ? "chosen" : `proposed: ${d.why}`}</span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Button className="mt-3" kind="main" disabled={busy || draft.some((d) => !d.to && !d.foldInto && !d.leaveOut)} onClick={() => change({ ports: chosen })}>Confirm this mapping</Button>
    </>
  );
}

function Edits({ c, busy, change }: SideProps) {
  if (c.ledger.edits.length === 0) return <p>Nothing was changed by hand. Edit the result on the right and keep it; each change can be undone by itself.</p>;
  const words: Record<string, string> = { set: "changed", add: "added", remove: "removed", order: "moved in its block" };
  return (
    <ul className="space-y-3">
      {c.ledger.edits.map((e) => (
        <li key={e.id} className="flex gap-2">
          <Sign of="hand" />
          <span className="min-w-0 grow"><b>{e.path || "at the top"}</b> {words[e.kind]}<pre className="font-mono text-xs whitespace-pre-wrap">{e.text}</pre><span className="text-xs text-slate-600 dark:text-slate-400">{e.by}{e.at && `, ${time(e.at)}`}</span></span>
          <Button disabled={busy} aria-label={`Undo edit ${e.id}`} onClick={() => change({ undo: e.id })}>Undo</Button>
        </li>
      ))}
    </ul>
  );
}

function Checks({ c, jump }: SideProps) {
  const devices = useQuery({ queryKey: ["devices"], queryFn: () => pages<Device>((cursor) => ask(api.GET("/devices", { params: { query: { cursor, limit: 500 } } }))) });
  const [model, version] = c.to.split("@");
  const fit = devices.data?.filter((d) => d.portrait?.model === model && d.portrait?.version === version) ?? [];
  const [device, setDevice] = useState("");
  const attempt = useMutation({ mutationFn: (device: string) => ask(api.POST("/conversions/{id}/try", { params: { path: { id: c.id } }, body: { device } })) });
  useEffect(() => attempt.reset(), [c.resultText]);
  const picked = device || fit[0]?.name || "";
  return (
    <div className="space-y-4">
      <section>
        <h3 className="font-semibold">What the schema of {c.to} says</h3>
        {c.ledger.findings.length === 0 ? <p><Sign of="kept" /> The result is as it takes it.</p> : <Found of={c.ledger.findings} jump={jump} />}
      </section>
      <section className="space-y-2">
        <h3 className="font-semibold">What a device says</h3>
        {fit.length === 0 ? <p>No device of the fleet is a {model} that runs {version}, so none can be asked.</p> : (
          <>
            <p className="text-xs">The device reads the result as it would before using it. It keeps nothing and changes nothing.</p>
            <span className="flex gap-2">
              <select aria-label="Device to ask" value={picked} onChange={(e) => setDevice(e.target.value)} className="rounded-sm border border-slate-400 bg-transparent px-1 dark:border-slate-600 dark:bg-deck">{fit.map((d) => <option key={d.name}>{d.name}</option>)}</select>
              <Button disabled={attempt.isPending} onClick={() => attempt.mutate(picked)}>{attempt.isPending ? "Asking …" : "Ask it"}</Button>
            </span>
          </>
        )}
        <Trouble error={attempt.error ?? devices.error} />
        {attempt.data && (attempt.data.items.length === 0 ? <p role="status"><Sign of="kept" /> {attempt.data.device} takes it.</p> : <Found of={attempt.data.items} jump={jump} />)}
      </section>
    </div>
  );
}

function Found({ of, jump }: { of: Conversion["ledger"]["findings"]; jump: SideProps["jump"] }) {
  return (
    <ul className="space-y-2">
      {of.map((f, i) => (
        <li key={i}><button type="button" className="flex gap-2 text-left" onClick={() => jump(0, f.line)}><Sign of={f.doubt ? "changed" : "needs-person"} /><span><b>{f.path || "the whole"}</b>{f.line > 0 && `, line ${f.line}`}: {f.message}</span></button></li>
      ))}
    </ul>
  );
}
