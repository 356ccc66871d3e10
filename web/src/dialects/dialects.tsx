// The workshop for people who write dialects: the text with what is wrong with it, a device to try it on, the raw answer with what each pattern found,
// and the fields that come out.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { api, ask, type S } from "../shared/api";
import { ChooseDevice } from "../shared/choose";
import { ago } from "../shared/format";
import { Table, type Column } from "../shared/list";
import { Badge, Button, Card, Field, Muted, Pick, Trouble } from "../shared/ui";
import { pieces } from "./answer";
import { Editor, type Go } from "./editor";

type Dialect = S["Dialect"];
type Question = S["DialectQuestion"];
type Trial = S["DialectTrial"];

const columns: Column<Dialect>[] = [
  { head: "Dialect", cell: (d) => <b className="font-mono">{d.name}</b> },
  {
    head: "From",
    cell: (d) => (d.file ? `${d.file}, version ${d.version}` : <Muted>built in</Muted>),
  },
  { head: "Loaded", cell: (d) => d.loadedAt && `${ago(d.loadedAt)} by ${d.loadedBy}` },
  {
    head: "Firmware",
    cell: (d) =>
      d.trouble ? (
        <Badge state="broken">cannot be used: {d.trouble}</Badge>
      ) : d.lacks.length ? (
        <Muted>cannot be changed without {d.lacks.join(", ")}</Muted>
      ) : (
        "can be changed"
      ),
  },
];

export function DialectsPage() {
  const all = useQuery({ queryKey: ["dialects"], queryFn: () => ask(api.GET("/dialects")) });
  const [text, setText] = useState("");
  return (
    <>
      <h1 className="text-lg font-bold">Dialects</h1>
      <Workshop all={all.data?.items ?? []} text={text} setText={setText} />
      <Card title="Kinds of devices that the service can speak with">
        <Trouble error={all.error} />
        {all.data && (
          <Table columns={columns} rows={all.data.items} id={(d) => d.name + (d.file ?? "")} empty="There is none." />
        )}
      </Card>
    </>
  );
}

/** What the service says of a text, a moment after somebody typed. */
function useChecked(text: string) {
  const [late, setLate] = useState(text);
  useEffect(() => {
    const t = setTimeout(() => setLate(text), 400);
    return () => clearTimeout(t);
  }, [text]);
  const query = useQuery({
    queryKey: ["dialects", "check", late],
    enabled: late.trim() !== "",
    queryFn: () => ask(api.POST("/dialects/check", { body: { text: late } })),
    placeholderData: (before) => before,
  });
  return { ...query, current: late === text && query.isSuccess && !query.isPlaceholderData };
}

function Workshop({ all, text, setText }: { all: Dialect[]; text: string; setText: (text: string) => void }) {
  const go = useRef<Go>(null);
  const [device, setDevice] = useState("");
  const checked = useChecked(text);
  const open = useMutation({
    mutationFn: (name: string) => ask(api.GET("/dialects/{name}", { params: { path: { name } } })),
    onSuccess: (d) => setText(d.text),
  });
  const found = checked.data?.findings ?? [];
  const usable = checked.current && !found.some((f) => !f.doubt);
  return (
    <Card title="Workshop">
      <div className="grid gap-4 lg:grid-cols-2">
        <div className="space-y-3">
          <Pick id="dialect" label="Begin with" value="" onChange={(name) => name && open.mutate(name)}>
            <option value="">a dialect that is there ...</option>
            {all
              .filter((d) => !d.trouble)
              .map((d) => (
                <option key={d.name}>{d.name}</option>
              ))}
          </Pick>
          <Trouble error={open.error ?? checked.error} />
          <Editor text={text} found={found} onEdit={setText} ref={go} />
          {text.trim() === "" ? (
            <Muted>Write a dialect, or begin with one that is there. docs/walkthrough.md leads through it.</Muted>
          ) : checked.current ? (
            <Findings found={found} onGo={(f) => go.current?.to(f.line, f.column)} />
          ) : (
            !checked.isError && <p>Checking ...</p>
          )}
          <Load text={text} usable={usable} />
        </div>
        <div className="space-y-3">
          <ChooseDevice label="Device to try it on" value={device} onChange={setDevice} />
          <Try device={device} text={text} usable={usable} questions={checked.data?.askable ?? []} />
          <Coverage all={checked.data?.coverage ?? []} />
        </div>
      </div>
    </Card>
  );
}

function Findings({ found, onGo }: { found: S["DialectFinding"][]; onGo: (f: S["DialectFinding"]) => void }) {
  if (!found.length) return <p id="findings">No finding.</p>;
  return (
    <ul id="findings" className="space-y-1">
      {found.map((f, i) => (
        <li key={i}>
          <button className="text-left underline decoration-dotted" onClick={() => onGo(f)}>
            <Badge state={f.doubt ? "doubt" : "broken"}>{f.doubt ? "doubt" : "error"}</Badge> line {f.line}: {f.message}
            {f.hint && <Muted> ({f.hint})</Muted>}
          </button>
        </li>
      ))}
    </ul>
  );
}

/** Loads the text into the service, as a new version of its file. */
function Load({ text, usable }: { text: string; usable: boolean }) {
  const queries = useQueryClient();
  const [file, setFile] = useState("");
  const name = file || `${/^dialect:\s*(\S+)/m.exec(text)?.[1] ?? "dialect"}.yaml`;
  const load = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/catalogue/{file}", {
          params: { path: { file: name } },
          body: text,
          bodySerializer: (b) => b,
          headers: { "Content-Type": "application/yaml" },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["dialects"] }),
  });
  return (
    <div className="flex items-end gap-2">
      <Field label="File" name="dialect-file" value={name} onChange={(e) => setFile(e.target.value)} />
      <Button id="load-dialect" disabled={!usable || load.isPending} onClick={() => load.mutate()}>
        Load into the service
      </Button>
      {load.data && <span role="status">{load.data.changed ? "is loaded" : "nothing changed"}</span>}
      <Trouble error={load.error} />
    </div>
  );
}

function Try({
  device,
  text,
  usable,
  questions,
}: {
  device: string;
  text: string;
  usable: boolean;
  questions: Question[];
}) {
  const [query, setQuery] = useState("");
  const [fill, setFill] = useState<Record<string, string>>({});
  const [write, setWrite] = useState(false);
  const asked = questions.find((q) => q.name === query);
  const tried = useMutation({
    mutationFn: () =>
      ask(api.POST("/dialects/try", { body: { device, text, queries: query ? [query] : undefined, write, fill } })),
  });
  const names = [...new Set(questions.map((q) => q.name))];
  return (
    <div className="space-y-3">
      <Pick id="query" label="Query" value={query} onChange={setQuery}>
        <option value="">all of the portrait and all readings</option>
        {names.map((n) => (
          <option key={n} value={n}>
            {n}
          </option>
        ))}
      </Pick>
      {asked?.takes.map((p) => (
        <Field
          key={p}
          label={`{${p}}`}
          name={`fill-${p}`}
          value={fill[p] ?? ""}
          onChange={(e) => setFill({ ...fill, [p]: e.target.value })}
        />
      ))}
      {asked?.writes && (
        <label className="flex items-center gap-2">
          <input type="checkbox" name="write" checked={write} onChange={(e) => setWrite(e.target.checked)} /> it may
          change something on the device
        </label>
      )}
      <Button
        id="try"
        kind="main"
        disabled={!usable || !device || tried.isPending || (asked?.writes && !write)}
        onClick={() => tried.mutate()}
      >
        {tried.isPending ? "Asking the device ..." : "Try it"}
      </Button>
      <Trouble error={tried.error} />
      {tried.data && (
        <div id="trials" className="space-y-4">
          {tried.data.trouble && <p role="alert">The rest was not tried: {tried.data.trouble}</p>}
          {tried.data.items.map((t, i) => (
            <TrialShown key={i} t={t} />
          ))}
          <a
            className="underline"
            download={`${device}.session`}
            href={`data:text/plain;charset=utf-8,${encodeURIComponent(tried.data.recording)}`}
          >
            Download the recording
          </a>
        </div>
      )}
    </div>
  );
}

function TrialShown({ t }: { t: Trial }) {
  const rows = Object.keys(t.fields).length ? [t.fields] : t.rows;
  const names = [...new Set(rows.flatMap((r) => Object.keys(r)))].sort();
  return (
    <section className="space-y-1 border-t border-line pt-2 dark:border-nightline">
      <h3 className="flex items-center gap-2">
        <Badge state={t.trouble ? "broken" : "met"}>{t.trouble ? "not understood" : "understood"}</Badge>
        <b className="font-mono">{t.sent.join(" / ") || t.question.name}</b>
        <Muted>
          {[t.question.kind, t.table && `table ${t.table}`, `${t.milliseconds} ms`].filter(Boolean).join(", ")}
        </Muted>
      </h3>
      <pre className="whitespace-pre-wrap break-all rounded-sm bg-slate-100 p-2 font-mono text-xs dark:bg-night">
        {pieces(t.answer, t.marks).map((p, i) =>
          p.group ? (
            <mark key={i} title={p.group} className="rounded-sm bg-amber-200 dark:bg-amber-800 dark:text-white">
              {p.text}
            </mark>
          ) : (
            p.text
          ),
        )}
      </pre>
      {t.trouble && <p className="text-rose-800 dark:text-rose-300">{t.trouble}</p>}
      {t.value && (
        <p>
          Value: <span className="font-mono">{t.value}</span>
        </p>
      )}
      {names.length > 0 && t.table && (
        <Table
          columns={names.map((n) => ({ head: n, cell: (r: Record<string, string>) => r[n] }))}
          rows={t.rows}
          id={(r) => JSON.stringify(r)}
          empty="None."
        />
      )}
      {names.length > 0 && !t.table && (
        <dl className="grid grid-cols-[auto_1fr] gap-x-3">
          {names.map((n) => (
            <div key={n} className="contents">
              <dt>
                <Muted>{n}</Muted>
              </dt>
              <dd className="font-mono">{t.fields[n]}</dd>
            </div>
          ))}
        </dl>
      )}
    </section>
  );
}

function Coverage({ all }: { all: S["DialectCoverage"][] }) {
  const lacks = all.filter((c) => !c.has);
  if (!all.length) return null;
  return (
    <details>
      <summary>
        {all.length - lacks.length} of {all.length} capabilities are there
      </summary>
      <ul className="list-disc pl-6">
        {all
          .filter((c) => c.has && c.by)
          .map((c) => (
            <li key={c.kind + c.name}>
              {c.kind} <b>{c.name}</b> goes by {c.by}
            </li>
          ))}
        {lacks.map((c) => (
          <li key={c.kind + c.name}>
            {c.kind} <b>{c.name}</b>: without it, {c.without}
          </li>
        ))}
      </ul>
    </details>
  );
}
