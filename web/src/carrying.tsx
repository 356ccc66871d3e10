// What a change needs before, during and after: whether it is ready, what it asks a person, and the way back.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router-dom";
import { api, ask, type Action, type Change, type S } from "./api";
import { span, time, momentOf, onTheWall, zoneName } from "./format";
import { Differences } from "./configurations";
import { Pick } from "./paths";
import { Ask, Badge, Button, Card, Field, Mark, Trouble, Waiting } from "./ui";

/** Keeps what the service answers as the change that is shown. */
function useAnswer(c: Change) {
  const queries = useQueryClient();
  return { onSuccess: (d: Change) => queries.setQueryData(["change", c.id], d) };
}

const answers: Partial<Record<Action, { name: string; kind?: "main" | "risk"; hint: string }>> = {
  "sign-off": { name: "It is done", kind: "main", hint: "You sign for it; what you write is kept." },
  accept: { name: "Accept the warnings", kind: "main", hint: "Say why; it is kept with your name." },
  "go-back": { name: "Go back", kind: "risk", hint: "The declared way back is taken." },
  retry: { name: "Try again", hint: "It begins with a look at the device." },
  leave: { name: "Leave it as it stands", kind: "risk", hint: "The change ends here." },
};

const heads: Record<S["Question"]["kind"], string> = {
  "hand-step": "Somebody has to do this by hand", warnings: "Doubts before it goes on", failed: "It failed after the point of no return",
  conversion: "The configuration needs decisions", "back-failed": "The way back failed",
  "other-unit": "Another unit answers", "not-as-left": "The device does not stand where the change left it", window: "It is not the time for what comes next",
  "our-data": "What this installation holds cannot be used", "our-fault": "The service broke off again and again",
};

/** The question of a change that needs a person, with the losses of going back where that is an answer. */
export function QuestionCard({ c }: { c: Change }) {
  const q = c.question!;
  const [text, setText] = useState("");
  const keep = useAnswer(c);
  const act = useMutation({ mutationFn: (v: { action: Action; text: string }) => ask(api.POST("/changes/{id}/{action}", { params: { path: { id: c.id, action: v.action } }, body: { text: v.text } })), ...keep });
  const go = useNavigate();
  const work = useMutation({ mutationFn: () => ask(api.POST("/conversions", { body: { source: { backup: q.backup! }, to: q.to! } })), onSuccess: (d) => go(`/configurations/${d.id}`) });
  return (
    <section role="alert" id="question" className="space-y-3 rounded-md border-2 border-amber-700/60 bg-amber-50 p-4 dark:bg-amber-950/40">
      <h2 className="flex items-center gap-2 font-semibold text-amber-900 dark:text-amber-200"><Mark state="held" /> {heads[q.kind]}</h2>
      <p className="whitespace-pre-wrap">{q.text}</p>
      {q.kind === "hand-step" && q.answers.includes("sign-off") && <Attached c={c} step={q.step} add />}
      <Field label={q.answers.includes("accept") ? "Why it is accepted" : "What was seen"} name="words" value={text} onChange={(e) => setText(e.target.value)} />
      <div className="flex flex-wrap gap-2">
        {q.backup && q.to && <Button id="work-out" kind="main" title="A conversion of this configuration is begun; come back here once it is complete." disabled={work.isPending} onClick={() => work.mutate()}>Work it out</Button>}
        {q.answers.filter((a) => c.actions.includes(a)).map((a) => (
          <Button key={a} id={a} kind={answers[a]?.kind} title={answers[a]?.hint} disabled={act.isPending || (a === "accept" && text.trim().length < 3)} onClick={() => act.mutate({ action: a, text: text.trim() })}>{answers[a]?.name ?? a}</Button>
        ))}
      </div>
      <Trouble error={act.error ?? work.error} />
      {q.answers.includes("go-back") && <Losses what="change" id={c.id} />}
    </section>
  );
}

/** Files that people attached to hand steps. */
export function Attached({ c, step, add }: { c: Change; step?: number; add?: boolean }) {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["evidence", c.id], queryFn: () => ask(api.GET("/changes/{id}/evidence", { params: { path: { id: c.id } } })) });
  const put = useMutation({
    mutationFn: async (f: File) => {
      const r = await fetch(`/api/v1/changes/${c.id}/evidence?step=${step}&name=${encodeURIComponent(f.name)}`, { method: "POST", headers: { "Content-Type": "application/octet-stream" }, body: f });
      if (!r.ok) throw new Error((await r.json()).detail);
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ["evidence", c.id] }),
  });
  const items = (list.data?.items ?? []).filter((e) => !step || e.step === step);
  if (!add && items.length === 0) return null;
  return (
    <div className="flex flex-wrap items-center gap-3">
      {items.map((e) => <a key={e.id} className="underline" href={`/api/v1/changes/${c.id}/evidence/${e.id}`} download={e.name} title={`${e.addedBy}, ${time(e.addedAt)}`}>{e.name}</a>)}
      {add && <label className="text-xs">Picture or file <input type="file" name="evidence" className="text-xs" onChange={(e) => { const f = e.target.files?.[0]; if (f) put.mutate(f); }} /></label>}
      <Trouble error={put.error ?? list.error} />
    </div>
  );
}

/** Drafts the same aim once more, from where the device stands now. */
export function Redraft({ id }: { id: number }) {
  const go = useNavigate();
  const anew = useMutation({ mutationFn: () => ask(api.POST("/changes/{id}/redraft", { params: { path: { id } } })), onSuccess: (d) => go(`/changes/${d.id}`) });
  return <><Button id="redraft" disabled={anew.isPending} onClick={() => anew.mutate()}>{anew.isPending ? "Looking ..." : "Draft anew"}</Button><Trouble error={anew.error} /></>;
}

/** Ready or not: every check with its evidence, and what to do. */
export function ReadyCard({ c }: { c: Change }) {
  const keep = useAnswer(c);
  const [accepting, setAccepting] = useState<string | null>(null);
  const [reason, setReason] = useState("");
  const look = useMutation({ mutationFn: () => ask(api.POST("/changes/{id}/ready", { params: { path: { id: c.id } } })), ...keep });
  const accept = useMutation({
    mutationFn: (v: { check: string; reason: string }) => ask(api.POST("/changes/{id}/accept-warnings", { params: { path: { id: c.id } }, body: { checks: [v.check], reason: v.reason } })),
    onSuccess: (d) => { keep.onSuccess(d); setAccepting(null); setReason(""); },
  });
  const checks = c.checks ?? [];
  const open = checks.filter((k) => k.state === "stop" || (k.state === "warn" && !k.acceptedBy)).length;
  const before = !c.startedAt && !c.endedAt;
  return (
    <Card title={<span className="flex items-center gap-2">Ready or not <Badge state={open ? "held" : "ready"}>{open ? `${open} in the way` : "ready"}</Badge></span>}
      aside={<span className="flex items-center gap-3 text-xs text-slate-600 dark:text-slate-400">{c.checkedAt && <>looked {time(c.checkedAt)}</>}{before && <Button id="look" disabled={look.isPending} onClick={() => look.mutate()}>{look.isPending ? "Looking ..." : "Look again"}</Button>}</span>}>
      <Trouble error={look.error ?? accept.error} />
      <table className="w-full table-fixed">
        <colgroup><col className="w-64" /><col /><col className="w-28" /></colgroup>
        <tbody>
          {checks.map((k) => (
            <tr key={k.name} data-check={k.name} data-state={k.state} className="border-b border-line last:border-0 dark:border-nightline">
              <td className="align-top"><span className="flex items-start gap-2"><Mark state={k.state === "pass" ? "done" : k.state === "warn" ? "held" : "failed"} /><span>{k.title}<span className="sr-only">: {k.state}</span></span></span></td>
              <td className="align-top">{k.evidence}{k.remedy && !k.acceptedBy && <span className="block text-slate-600 dark:text-slate-400">To do: {k.remedy}</span>}{k.acceptedBy && <span className="block text-slate-600 dark:text-slate-400">Accepted by {k.acceptedBy}: {k.reason}</span>}</td>
              <td className="text-right align-top">{before && k.name === "identity" && k.state === "stop" && <Redraft id={c.id} />}{before && k.state === "warn" && !k.acceptedBy && <Button onClick={() => setAccepting(k.name)} aria-label={`Accept ${k.title}`}>Accept</Button>}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <Ask open={!!accepting} onClose={() => setAccepting(null)} title={`Accept: ${checks.find((k) => k.name === accepting)?.title}`}>
        <p>{checks.find((k) => k.name === accepting)?.evidence}</p>
        <Field label="Why" name="reason" value={reason} onChange={(e) => setReason(e.target.value)} />
        <Trouble error={accept.error} />
        <div className="flex justify-end gap-2"><Button onClick={() => setAccepting(null)}>Not now</Button><Button id="take-on" kind="main" disabled={reason.trim().length < 3 || accept.isPending} onClick={() => accept.mutate({ check: accepting!, reason: reason.trim() })}>Accept</Button></div>
      </Ask>
    </Card>
  );
}

/** The window, the forecast, and the way back of each hop. */
export function TermsCard({ c }: { c: Change }) {
  const [editing, setEditing] = useState(false);
  const t = c.terms ?? {};
  const before = ["draft", "approved", "held", "scheduled", "asking"].includes(c.state);
  return (
    <Card title="Window and way back" aside={before && <Button id="terms" onClick={() => setEditing(true)}>Change</Button>}>
      <div className="grid gap-4 md:grid-cols-[1fr_2fr]">
        <dl className="space-y-2">
          <div><dt className="text-xs text-slate-600 dark:text-slate-400">Window</dt><dd className="font-medium">{t.windowFrom || t.windowTo ? <>{t.windowFrom ? time(t.windowFrom) : "any time"} until {t.windowTo ? time(t.windowTo) : "it is done"}</> : "none: any time"}{t.restartFrom && <span className="block">past the point of no return at {time(t.restartFrom)} or later</span>}</dd></div>
          {c.half !== undefined && c.most !== undefined && <div><dt className="text-xs text-slate-600 dark:text-slate-400">Forecast</dt><dd className="font-medium">{span(c.half, c.most)} <span className="font-normal text-slate-600 dark:text-slate-400">usual, and bad case</span></dd></div>}
          <div><dt className="text-xs text-slate-600 dark:text-slate-400">When it fails</dt><dd className="font-medium">{t.wayBack === "automatic" ? "the way back is taken without asking" : "the way back is offered"}</dd></div>
        </dl>
        <ul className="space-y-1">
          {(c.waysBack ?? []).map((w) => (
            <li key={w.hop} className="flex items-start gap-2"><Mark state={w.way ? "kept" : "held"} /><span><b>{c.path?.hops[w.hop - 1]?.to ?? `Hop ${w.hop}`}</b>: {w.text}{w.most !== undefined && <span className="text-slate-600 dark:text-slate-400"> ({span(0, w.most)})</span>}</span></li>
          ))}
        </ul>
      </div>
      {editing && <TermsDialog c={c} onClose={() => setEditing(false)} />}
    </Card>
  );
}

function TermsDialog({ c, onClose }: { c: Change; onClose: () => void }) {
  const keep = useAnswer(c);
  const [from, setFrom] = useState(onTheWall(c.terms?.windowFrom));
  const [to, setTo] = useState(onTheWall(c.terms?.windowTo));
  const [restart, setRestart] = useState(onTheWall(c.terms?.restartFrom));
  const [way, setWay] = useState<"offered" | "automatic">(c.terms?.wayBack ?? "offered");
  const put = useMutation({
    mutationFn: () => ask(api.PUT("/changes/{id}/terms", { params: { path: { id: c.id } }, body: { windowFrom: momentOf(from), windowTo: momentOf(to), restartFrom: momentOf(restart), wayBack: way } })),
    onSuccess: (d) => { keep.onSuccess(d); onClose(); },
  });
  return (
    <Ask open onClose={onClose} title={`Window and way back of change ${c.id}`}>
      <form className="space-y-3" onSubmit={(e) => { e.preventDefault(); put.mutate(); }}>
        <p>What was approved has to be approved again. Times are in {zoneName()}.</p>
        <div className="grid grid-cols-2 gap-3"><Field label="Not before" type="datetime-local" name="from" value={from} onChange={(e) => setFrom(e.target.value)} /><Field label="Over, going back included, by" type="datetime-local" name="to" value={to} onChange={(e) => setTo(e.target.value)} /></div>
        <Field label="Past the point of no return not before" hint="what comes before it is done as soon as the change starts" type="datetime-local" name="restart" value={restart} onChange={(e) => setRestart(e.target.value)} />
        <Pick id="way" label="When it fails after the point of no return" value={way} onChange={(v) => !c.startedAt && setWay(v as typeof way)}><option value="offered">offer the way back</option><option value="automatic">take the way back without asking</option></Pick>
        <Trouble error={put.error} />
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button id="write-terms" kind="main" type="submit" disabled={put.isPending}>Write</Button></div>
      </form>
    </Ask>
  );
}

/** What going back would lose. */
export function Losses(p: { what: "change"; id: number } | { what: "device"; name: string; carry?: boolean }) {
  const l = useQuery({
    queryKey: ["losses", p.what, p.what === "change" ? p.id : p.name, p.what === "device" && !!p.carry], retry: false,
    queryFn: () => (p.what === "change" ? ask(api.GET("/changes/{id}/way-back", { params: { path: { id: p.id } } })) : ask(api.GET("/devices/{name}/back-preview", { params: { path: { name: p.name }, query: { carry: p.carry || undefined } } }))),
  });
  if (l.isPending) return <Waiting />;
  if (!l.data) return <Trouble error={l.error} />;
  const d = l.data;
  return (
    <div id="losses" className="space-y-2 rounded-sm border border-line bg-white p-3 dark:border-nightline dark:bg-deck">
      <p className="font-semibold">Going back from <span className="font-mono">{d.from}</span> to <span className="font-mono">{d.to}</span></p>
      <p>{d.way}.</p>
      {d.backup !== undefined && (d.configuration.length === 0 ? <p>Nothing was configured since backup {d.backup}.</p> : <><p>Changed since backup {d.backup}; going back undoes it:</p><Differences of={d.configuration} /></>)}
      {d.carried && (
        <div id="carried">
          <p>Carried across: {Object.entries(d.carried.counts).filter(([, n]) => n > 0).map(([state, n]) => `${n} ${state.replace("-", " ")}`).join(", ")}.{!d.carried.complete && " Something is left to a person; the change asks before anything is done."}</p>
          {d.carried.lines.map((l) => <p key={l} className="ml-4 text-xs">{l}</p>)}
        </div>
      )}
      {d.services.length > 0 ? d.services.map((s) => <p key={s} className="flex gap-2"><Mark state="held" /> {s}</p>) : <p>No service in use needs the newer version.</p>}
      <p>Credentials that apply then, in this order: {d.credentials.join("; ") || "none"}.</p>
      {d.notes.map((n) => <p key={n} className="text-slate-600 dark:text-slate-400">{n}</p>)}
    </div>
  );
}

/** What comes over a device's console line, as it comes. */
export function ConsoleLine({ device, change, live }: { device: string; change?: number; live: boolean }) {
  const queries = useQueryClient();
  const key = ["console", device, change];
  const log = useQuery({
    queryKey: key, refetchInterval: live ? 1000 : false,
    queryFn: async () => { // only what came since the last look is asked for
      let { after, text } = queries.getQueryData<{ after: number; text: string }>(key) ?? { after: 0, text: "" };
      for (;;) {
        const { items } = await ask(api.GET("/devices/{name}/console-log", { params: { path: { name: device }, query: { after, change } } }));
        if (items.length === 0) return { after, text };
        text += items.map((p) => p.text).join("");
        after = items.at(-1)!.id;
      }
    },
  });
  const end = useRef<HTMLPreElement>(null);
  const text = log.data?.text;
  useEffect(() => { if (live && end.current) end.current.scrollTop = end.current.scrollHeight; }, [text, live]);
  return <><Trouble error={log.error} /><pre ref={end} id="console-line" className="max-h-96 overflow-auto rounded-sm bg-slate-900 p-3 font-mono text-xs text-slate-100">{text || "Nothing came over the line yet."}</pre></>;
}
