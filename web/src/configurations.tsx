// Configurations: what is being converted, beginning a conversion, comparing two, and services of a gateway.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { Link, useNavigate } from "react-router-dom";
import { api, ask, pages, type Backup, type ConfigurationSource, type Device, type Difference, type S } from "./api";
import { time } from "./format";
import { counted, marks, Sign } from "./marks";
import { Pick } from "./paths";
import { SideBySide, type Jump } from "./sidebyside";
import { Button, Card, Field, Trouble, Waiting } from "./ui";

export function ConfigurationsPage() {
  const [work, setWork] = useState<"convert" | "compare" | "services">("convert");
  const names = { convert: "Convert", compare: "Compare", services: "Carve out services" };
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-bold">Configurations</h1>
        <div className="flex gap-1" role="group" aria-label="What to do">
          {(Object.keys(names) as (keyof typeof names)[]).map((k) => <Button key={k} aria-pressed={work === k} kind={work === k ? "main" : "plain"} onClick={() => setWork(k)}>{names[k]}</Button>)}
        </div>
        <span className="text-slate-600 dark:text-slate-400">Every line is accounted for. Secrets are never shown.</span>
      </div>
      {work === "convert" && <Begin />}
      {work === "compare" && <Compare />}
      {work === "services" && <Services />}
    </>
  );
}

const allBackups = () => pages<Backup>((cursor) => ask(api.GET("/backups", { params: { query: { cursor, limit: 500 } } })));

/** What is filled in for one side: a backup, or a file with what wrote it. It lives in the parent, so that what a button sends is what the fields say. */
type Filled = { backup: string; file?: { name: string; text: string }; from: string };
type Fill<T> = (change: (now: T) => T) => void;
const unfilled: Filled = { backup: "", from: "" };

function sourceOf({ backup, file, from }: Filled): ConfigurationSource | undefined {
  if (file) return from ? { name: file.name, text: file.text, from } : undefined;
  return backup ? { backup: Number(backup) } : undefined;
}

/** Chooses a backup, or takes a text with what wrote it. */
function Source({ label, value: { backup, file, from }, onChange }: { label: string; value: Filled; onChange: Fill<Filled> }) {
  const backups = useQuery({ queryKey: ["backups"], queryFn: allBackups });
  return (
    <fieldset className="space-y-2">
      <legend className="font-semibold">{label}</legend>
      <Pick label="A backup" value={file ? "" : backup} onChange={(v) => onChange((now) => ({ ...now, file: undefined, backup: v }))}>
        <option value="">choose one</option>
        {backups.data?.map((b) => <option key={b.id} value={b.id}>{b.device}, {b.version}, {time(b.takenAt)} (backup {b.id})</option>)}
      </Pick>
      <label className="block">
        <span className="mb-1 block text-xs font-semibold">or a file</span>
        <input type="file" aria-label={`${label}: a file`} onChange={async (e) => { const f = e.target.files?.[0]; const file = f && { name: f.name, text: await f.text() }; onChange((now) => ({ ...now, file })); }} className="w-full text-sm" />
      </label>
      {file && <Field label="Written by" hint="MODEL@VERSION, such as TH-60@4.2.9" value={from} onChange={(e) => { const from = e.target.value.trim(); onChange((now) => ({ ...now, from })); }} />}
    </fieldset>
  );
}

/** Model and release to convert to. */
function Target({ value, onChange }: { value: string; onChange: (v: string) => void }) {
  const catalogue = useQuery({ queryKey: ["catalogue"], queryFn: () => ask(api.GET("/catalogue")) });
  const [model, version] = [value.split("@")[0], value.split("@")[1] ?? ""];
  const family = catalogue.data?.items.find((f) => f.models.includes(model))?.family;
  const releases = useQuery({ queryKey: ["releases", model], enabled: !!family, queryFn: () => ask(api.GET("/models/{model}/releases", { params: { path: { model } } })) });
  return (
    <fieldset className="space-y-2">
      <legend className="font-semibold">For</legend>
      <Pick label="Model" value={model} onChange={(m) => onChange(m + "@")}>
        <option value="">choose one</option>
        {catalogue.data?.items.map((f) => <optgroup key={f.family} label={f.maker}>{f.models.map((m) => <option key={m}>{m}</option>)}</optgroup>)}
      </Pick>
      <Pick label="Release" value={version} onChange={(v) => onChange(`${model}@${v}`)}>
        <option value="">choose one</option>
        {releases.data?.items.filter((r) => r.runs).map((r) => <option key={r.version}>{r.version}</option>)}
      </Pick>
    </fieldset>
  );
}

function Begin() {
  const go = useNavigate();
  const list = useQuery({ queryKey: ["conversions"], queryFn: () => pages((cursor) => ask(api.GET("/conversions", { params: { query: { cursor, limit: 200 } } }))) });
  const [filled, setFilled] = useState(unfilled);
  const source = sourceOf(filled);
  const [to, setTo] = useState("@");
  const backups = useQuery({ queryKey: ["backups"], queryFn: allBackups });
  const devices = useQuery({ queryKey: ["devices"], queryFn: () => pages<Device>((cursor) => ask(api.GET("/devices", { params: { query: { cursor, limit: 500 } } }))) });
  const backup = backups.data?.find((b) => b.id === source?.backup);
  const model = devices.data?.find((d) => d.name === backup?.device)?.portrait?.model;
  const from = source?.from ?? (model && `${model}@${backup!.version}`);
  const ready = !!source && !to.startsWith("@") && !to.endsWith("@");
  const start = useMutation({
    mutationFn: (byHand: boolean) => ask(api.POST("/conversions", { body: { source: source!, to, byHand } })),
    onSuccess: (c) => go(`/configurations/${c.id}`),
  });
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[5fr_7fr]">
      <Card title="Convert a configuration">
        <div className="space-y-4">
          <Source label="From" value={filled} onChange={setFilled} />
          <Target value={to} onChange={setTo} />
          <Trouble error={start.error} />
          <div className="flex gap-2">
            <Button kind="main" disabled={!ready || start.isPending} onClick={() => start.mutate(false)}>Convert</Button>
            <Button disabled={!ready || start.isPending} title="Where no conversions lead there: carry over what is certain, side by side" onClick={() => start.mutate(true)}>Carry over by hand</Button>
          </div>
        </div>
      </Card>
      <div className="space-y-4">
        {from && ready && <SupportTable from={from} to={to} />}
        <Card title="Being worked on">
          <Trouble error={list.error} />
          {list.isPending ? <Waiting /> : (
            <table className="w-full">
              <thead><tr><th>Configuration</th><th>From</th><th>To</th><th>Begun</th></tr></thead>
              <tbody>
                {list.data?.map((c) => (
                  <tr key={c.id} className="border-t border-line dark:border-nightline">
                    <td><Link className="font-semibold underline" to={`/configurations/${c.id}`}>{c.name}</Link></td>
                    <td className="font-mono text-xs">{c.from}</td><td className="font-mono text-xs">{c.to}</td>
                    <td className="text-slate-600 dark:text-slate-400">{time(c.createdAt)}, {c.createdBy}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {list.data?.length === 0 && <p>Nothing yet.</p>}
        </Card>
      </div>
    </div>
  );
}

function SupportTable({ from, to }: { from: string; to: string }) {
  const table = useQuery({ queryKey: ["support", from, to], queryFn: () => ask(api.GET("/configurations/support", { params: { query: { from, to } } })), retry: false });
  return (
    <Card title={`What carries over from ${from} to ${to}`}>
      <Trouble error={table.error} />
      <ul className="space-y-1">
        {table.data?.sections.map((s) => (
          <li key={s.section}>
            <p className="flex items-center gap-2"><Sign of={s.verdict} /><b>{s.section}</b><span className="text-slate-600 dark:text-slate-400">{marks[s.verdict].words}</span></p>
            {s.notes.map((n) => <p key={n.path} className="ml-7 text-xs text-slate-600 dark:text-slate-400"><Sign of={n.verdict} /> {n.path}: {n.why}</p>)}
          </li>
        ))}
      </ul>
    </Card>
  );
}

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
            <button type="button" className="flex w-full flex-wrap items-center gap-2 text-left" onClick={() => onPick?.(d)} disabled={!onPick}>
              <Sign of={d.kind} /><span>{marks[d.kind].words}</span><b>{d.path}</b>
              {d.guarded && <span className="rounded-sm border border-current px-1 text-xs font-semibold">guarded: {d.guarded}</span>}
              {d.secret && <span className="text-xs">(secret)</span>}
            </button>
            {d.note && <p className="ml-7 text-xs font-semibold">{d.note}</p>}
            {d.oldPath && d.oldPath !== d.path && <p className="ml-7 text-xs text-slate-600 dark:text-slate-400">it was {d.oldPath}</p>}
            {d.old && <Lines mark="-" line={d.oldLine} text={d.old} />}
            {d.new && <Lines mark="+" line={d.newLine} text={d.new} />}
          </li>
        ))}
      </ul>
      {cosmetic > 0 && shown.length > 0 && <p className="mt-3 text-xs text-slate-600 dark:text-slate-400">{cosmetic} more differences are cosmetic: comments, blanks, quotes, or order where it does not matter.</p>}
    </>
  );
}

function Lines({ mark, line, text }: { mark: string; line: number; text: string }) {
  return <pre className="mt-1 ml-7 font-mono text-xs"><span className="mr-2 inline-block text-slate-600 select-none dark:text-slate-400">{mark} line {line}</span>{"\n"}{text.replace(/^/gm, "  ")}</pre>;
}

/** Which mark stands on which line. */
export function kindsOf(rows: { line: number; kind: string }[]): Map<number, string> {
  const weight = ["kept", "cosmetic", "moved", "default", "rule", "merged", "renamed", "reordered", "changed", "hand", "dropped", "added", "removed", "needs-person"];
  const out = new Map<number, string>();
  for (const r of rows) if (r.line > 0 && weight.indexOf(r.kind) >= weight.indexOf(out.get(r.line) ?? "kept")) out.set(r.line, r.kind);
  return out;
}

type Bundle = S["ConfigurationBundle"];
type FileComparison = S["FileComparison"];

/** Several files of one device. */
function Files({ label, value, onChange }: { label: string; value: Bundle; onChange: Fill<Bundle> }) {
  return (
    <fieldset className="space-y-2">
      <legend className="font-semibold">{label}</legend>
      <input type="file" multiple aria-label={`${label}: files`} onChange={async (e) => { const files = await Promise.all([...(e.target.files ?? [])].map(async (f) => ({ name: f.name, text: await f.text() }))); onChange((now) => ({ ...now, files })); }} className="w-full text-sm" />
      <Field label="Written by" hint="MODEL@VERSION, such as TH-60@4.2.9" value={value.from} onChange={(e) => { const from = e.target.value.trim(); onChange((now) => ({ ...now, from })); }} />
    </fieldset>
  );
}

function Compare() {
  const [many, setMany] = useState(false);
  return (
    <>
      <label className="flex items-center gap-2"><input type="checkbox" checked={many} onChange={() => setMany(!many)} />All files of a device at once</label>
      {many ? <CompareBundles /> : <CompareTwo />}
    </>
  );
}

function CompareBundles() {
  const [old, setOld] = useState<Bundle>({ from: "", files: [] });
  const [now, setNow] = useState<Bundle>({ from: "", files: [] });
  const ready = [old, now].every((b) => b.from && b.files.length);
  const [open, setOpen] = useState<FileComparison>();
  const compare = useMutation({ mutationFn: () => ask(api.POST("/configurations/compare-bundles", { body: { old, new: now } })), onSuccess: (d) => setOpen(d.items.find((f) => !f.same)) });
  const names = (f: FileComparison) => (f.state === "renamed" ? `${f.old}, now ${f.new}` : (f.new ?? f.old));
  const kind: Record<string, string> = { same: "kept", changed: "changed", missing: "removed", new: "added", renamed: "renamed" };
  return (
    <>
      <Card title="Compare all files of a device">
        <div className="grid gap-4 md:grid-cols-2"><Files label="Old" value={old} onChange={setOld} /><Files label="New" value={now} onChange={setNow} /></div>
        <div className="mt-4"><Button kind="main" disabled={!ready || compare.isPending} onClick={() => compare.mutate()}>Compare</Button></div>
        <Trouble error={compare.error} />
      </Card>
      {compare.data && (
        <Card title={compare.data.same ? "All files mean the same" : "Files"}>
          <ul className="space-y-1">
            {compare.data.items.map((f) => (
              <li key={`${f.old} ${f.new}`}><button type="button" aria-pressed={open === f} className={`flex gap-2 rounded-sm px-1 ${open === f ? "bg-slate-100 dark:bg-slate-700" : ""}`} onClick={() => setOpen(f)}><Sign of={kind[f.state]} /><b>{names(f)}</b>{f.state}{f.state === "changed" && f.same && ", only cosmetically"}</button></li>
            ))}
          </ul>
        </Card>
      )}
      {open && <Compared key={`${open.old} ${open.new}`} old={open.oldText} now={open.newText} of={open.items} names={[open.old ?? "not there", open.new ?? "not there"]} />}
    </>
  );
}

function CompareTwo() {
  const [left, setLeft] = useState(unfilled);
  const [right, setRight] = useState(unfilled);
  const [old, now] = [sourceOf(left), sourceOf(right)];
  const compare = useMutation({ mutationFn: () => ask(api.POST("/configurations/compare", { body: { old: old!, new: now! } })) });
  const d = compare.data;
  return (
    <>
      <Card title="Compare two configurations">
        <div className="grid gap-4 md:grid-cols-2"><Source label="Old" value={left} onChange={setLeft} /><Source label="New" value={right} onChange={setRight} /></div>
        <div className="mt-4 flex items-center gap-3">
          <Button kind="main" disabled={!old || !now || compare.isPending} onClick={() => compare.mutate()}>Compare</Button>
          {d && <span>{Object.keys(marks).map((k) => [k, d.items.filter((x) => x.kind === k).length] as const).filter(([, n]) => n).map(([k, n]) => counted(k, n)).join(", ") || "No difference."}</span>}
        </div>
        <Trouble error={compare.error} />
      </Card>
      {d && <Compared old={d.oldText} now={d.newText} of={d.items} names={["Old", "New"]} />}
    </>
  );
}

export function Compared({ old, now, of, names }: { old: string; now: string; of: Difference[]; names: [string, string] }) {
  const kinds = useMemo(() => ({ left: kindsOf(of.map((x) => ({ line: x.oldLine, kind: x.kind }))), right: kindsOf(of.map((x) => ({ line: x.newLine, kind: x.kind }))) }), [of]);
  const editors = useRef<Jump>(null);
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[8fr_4fr]">
      <Card title="Side by side"><SideBySide ref={editors} left={old} right={now} leftKinds={kinds.left} rightKinds={kinds.right} names={names} /></Card>
      <Card title="Differences"><div className="max-h-[66vh] overflow-y-auto"><Differences of={of} onPick={(x) => editors.current?.jump(x.oldLine, x.newLine)} /></div></Card>
    </div>
  );
}

function Services() {
  const go = useNavigate();
  const [filled, setFilled] = useState(unfilled);
  const source = sourceOf(filled);
  const [by, setBy] = useState<"address" | "policy" | "naming">("naming");
  const [picked, setPicked] = useState<string[]>([]);
  const [rename, setRename] = useState<Record<string, string>>({});
  const [to, setTo] = useState("@");
  const groups = useQuery({ queryKey: ["services", source, by], enabled: !!source, retry: false, queryFn: () => ask(api.POST("/configurations/services", { body: { source: source!, by } })) });
  const names = Object.fromEntries(Object.entries(rename).filter(([k, v]) => v && v !== k));
  const carve = { services: picked, rename: names };
  const preview = useQuery({ queryKey: ["carve", source, picked, names], enabled: !!source && picked.length > 0, retry: false, queryFn: () => ask(api.POST("/configurations/carve", { body: { source: source!, carve } })) });
  const start = useMutation({ mutationFn: () => ask(api.POST("/conversions", { body: { source: source!, to, carve } })), onSuccess: (c) => go(`/configurations/${c.id}`) });
  const toggle = (list: string[]) => setPicked((p) => (list.every((x) => p.includes(x)) ? p.filter((x) => !list.includes(x)) : [...new Set([...p, ...list])]));
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[5fr_7fr]">
      <Card title="Services of a gateway">
        <div className="space-y-4">
          <Source label="Gateway" value={filled} onChange={setFilled} />
          <Pick label="Grouped by" value={by} onChange={(v) => setBy(v as typeof by)}><option value="naming">naming</option><option value="address">shared address</option><option value="policy">policy</option></Pick>
          <Trouble error={groups.error} />
          <ul className="max-h-[46vh] space-y-2 overflow-y-auto">
            {groups.data?.items.map((g) => (
              <li key={g.name}>
                <label className="flex items-center gap-2 font-semibold"><input type="checkbox" checked={g.services.every((s) => picked.includes(s.name))} onChange={() => toggle(g.services.map((s) => s.name))} />{g.name}</label>
                {g.services.map((s) => (
                  <label key={s.name} className="ml-6 flex items-center gap-2"><input type="checkbox" aria-label={s.name} checked={picked.includes(s.name)} onChange={() => toggle([s.name])} />{s.name}<span className="text-xs text-slate-600 dark:text-slate-400">line {s.line}, {s.address || "no address"}, {s.policy || "no policy"}</span></label>
                ))}
              </li>
            ))}
          </ul>
        </div>
      </Card>
      <div className="space-y-4">
        <Trouble error={preview.error ?? start.error} />
        {picked.length > 0 && preview.data && (
          <>
            <Card title={`${preview.data.services.length} services with what they need`}>
              <table className="w-full">
                <thead><tr><th>What</th><th>Name</th><th>New name</th><th>Line</th><th>Shared</th></tr></thead>
                <tbody>
                  {[...preview.data.services.map((s) => ({ kind: "service", name: s.name, line: s.line, shared: false, usedBy: [] as string[] })), ...preview.data.needs].map((n) => (
                    <tr key={n.kind + n.name} className="border-t border-line dark:border-nightline">
                      <td>{n.kind}</td><td className="font-mono text-xs">{n.name}</td>
                      <td><input aria-label={`New name of ${n.name}`} placeholder={n.name} value={rename[n.name] ?? ""} onChange={(e) => setRename({ ...rename, [n.name]: e.target.value.trim() })} className="w-40 rounded-sm border border-slate-400 bg-transparent px-1 dark:border-slate-600" /></td>
                      <td>{n.line}</td>
                      <td title={n.usedBy.join("\n")}>{n.shared ? `stays as well, for ${n.usedBy.length || "an"}${n.usedBy.length ? " other" : "other"}${n.usedBy.length > 1 ? "s" : ""}` : "moves along"}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {preview.data.missing.map((m) => <p key={m} className="mt-2 font-semibold">? {m}</p>)}
            </Card>
            <Card title="New home">
              <div className="space-y-3"><Target value={to} onChange={setTo} />
                <Button kind="main" disabled={to.startsWith("@") || to.endsWith("@") || start.isPending} onClick={() => start.mutate()}>Carve out and convert</Button></div>
            </Card>
            <Card title="What is carved out, and what stays behind">
              <SideBySide left={preview.data.text} right={preview.data.rest} leftKinds={new Map()} rightKinds={new Map()} names={["Carved out", "Stays behind"]} />
            </Card>
          </>
        )}
        {picked.length === 0 && source && <p>Tick the services to carve out.</p>}
      </div>
    </div>
  );
}
