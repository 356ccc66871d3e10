// Putting a device of another model in the place of one: what it takes, told before anything begins, and where each replacement stands.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router-dom";
import { api, ask, newKey, type S } from "../shared/api";
import { ChooseDevice } from "../shared/choose";
import { ago } from "../shared/format";
import { Table } from "../shared/list";
import { Badge, Button, Card, Field, Form, Mark, Muted, subject, Trouble } from "../shared/ui";
import { counted, nextOf, oldOf } from "./words";

type Preview = S["ReplacementPreview"];
type Wish = S["NewReplacement"];
type Replacement = S["Replacement"];

export function ReplacePage() {
  return (
    <>
      <h1 className="text-lg font-bold">Replace devices</h1>
      <Draft />
      <Standing />
    </>
  );
}

const nothing = { old: "", device: "", to: "", conversion: "", comesBackAt: "" };

function Draft() {
  const [v, setV] = useState(nothing);
  const [dead, setDead] = useState(false);
  const [own, setOwn] = useState(false);
  const [keep, setKeep] = useState(false);
  const go = useNavigate();
  const wish: Wish = {
    device: v.device,
    old: v.old,
    to: v.to.trim() || undefined,
    conversion: Number(v.conversion) || undefined,
    comesBackAt: v.comesBackAt.trim() || undefined,
    dead: dead || undefined,
    ownAddress: own || undefined,
    defaults: keep ? "keep" : undefined,
  };
  const preview = useMutation({ mutationFn: () => ask(api.POST("/replacements/preview", { body: wish })) });
  const draft = useMutation({
    mutationFn: () =>
      ask(api.POST("/replacements", { params: { header: { "Idempotency-Key": newKey() } }, body: wish })),
    onSuccess: (c) => go(`/changes/${c.id}`),
  });
  const set = (key: keyof typeof v) => (text: string) => {
    setV({ ...v, [key]: text });
    preview.reset();
  };
  const field = (key: keyof typeof v, label: string, hint: string) => (
    <Field label={label} hint={hint} name={key} value={v[key]} onChange={(e) => set(key)(e.target.value)} />
  );
  const check = (id: string, is: boolean, change: (is: boolean) => void, text: string) => (
    <label className="flex items-center gap-2">
      <input
        type="checkbox"
        name={id}
        checked={is}
        onChange={(e) => {
          change(e.target.checked);
          preview.reset();
        }}
      />
      {text}
    </label>
  );
  return (
    <Card title="Put a device in the place of another one">
      <div className="grid gap-3 md:grid-cols-2">
        <div id="replace-old">
          <ChooseDevice label="The old device" value={v.old} onChange={set("old")} />
        </div>
        <div id="replace-new">
          <ChooseDevice label="The new device" value={v.device} onChange={set("device")} />
        </div>
        {field("to", "Release", "that the new one is to run: a version, preferred, newest; empty: it stays")}
        {field("conversion", "Conversion", "its number; empty: what was worked out of the configuration as it is now")}
        {field("comesBackAt", "Comes back at", "host:port; empty: the address of the old one")}
      </div>
      <div className="mt-3 flex flex-wrap gap-x-6 gap-y-1">
        {check("dead", dead, setDead, "The old one does not answer")}
        {check("own", own, setOwn, "The new one has an address of its own")}
        {check("keep", keep, setKeep, "Keep what the new one says by itself")}
      </div>
      <div className="mt-3">
        <Button
          id="preview"
          kind="main"
          disabled={!v.old || !v.device || preview.isPending}
          onClick={() => preview.mutate()}
        >
          {preview.isPending ? "Looking at both ..." : "See what it takes"}
        </Button>
      </div>
      <Trouble error={preview.error ?? draft.error} />
      {preview.data && <Takes p={preview.data} busy={draft.isPending} onDraft={() => draft.mutate()} />}
    </Card>
  );
}

/** What it takes, and the button that drafts it once nothing is open. */
function Takes({ p, busy, onDraft }: { p: Preview; busy: boolean; onDraft: () => void }) {
  return (
    <div id="preview-result" className="mt-4 space-y-4" aria-live="polite">
      <p>
        <b>{p.new}</b> ({p.to}) in the place of <b>{p.old}</b> ({p.from}). Configuration: {p.source}
        {p.conversion !== undefined && (
          <>
            ,{" "}
            <Link className={subject} to={`/configurations/${p.conversion}`}>
              conversion {p.conversion}
            </Link>
          </>
        )}
        .
      </p>
      {p.refusals.length > 0 ? (
        <ul>
          {p.refusals.map((text) => (
            <li key={text} className="flex items-start gap-2">
              <Mark state="fail" /> {text}
            </li>
          ))}
        </ul>
      ) : (
        <p className="flex items-center gap-2">
          <Mark state="pass" /> It can be drafted: every statement is accounted for.
        </p>
      )}
      {p.notes.map((text) => (
        <p key={text} className="flex items-start gap-2">
          <Mark state="not-proven" /> {text}
        </p>
      ))}
      <Support rows={p.support} />
      <Cables rows={p.cables} p={p} />
      <Defaults p={p} />
      {p.refusals.length === 0 && (
        <Button id="draft-replacement" kind="main" disabled={busy} onClick={onDraft}>
          Draft the change
        </Button>
      )}
    </div>
  );
}

function Support({ rows }: { rows: S["SupportRow"][] }) {
  if (rows.length === 0) return null;
  return (
    <div>
      <h3 className="font-semibold">What carries over</h3>
      <table className="w-full">
        <thead>
          <tr>
            <th>Section</th>
            <th className="text-right">Carries over</th>
            <th className="text-right">Changes</th>
            <th className="text-right">Does not</th>
            <th className="text-right">Open</th>
            <th>Why</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <tr
              key={r.section}
              data-section={r.section}
              className="border-t border-line align-top dark:border-nightline"
            >
              <td>{r.section}</td>
              <td className="text-right tabular-nums">{r.carries}</td>
              <td className="text-right tabular-nums">{r.changes}</td>
              <td className="text-right tabular-nums">{r.not}</td>
              <td className="text-right tabular-nums">{r.person}</td>
              <td>
                {r.reasons.map((w) => (
                  <p key={w.text + w.first}>
                    {w.text} <Muted small>{counted(w.count, w.line, w.first)}</Muted>
                  </p>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Cables({ rows, p }: { rows: S["Cable"][]; p: Preview }) {
  if (rows.length === 0) return null;
  return (
    <div id="cables">
      <h3 className="font-semibold">Cables</h3>
      <table>
        <thead>
          <tr>
            <th>{p.old}</th>
            <th>Label</th>
            <th>{p.new}</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((c) => (
            <tr key={c.from} className="border-t border-line dark:border-nightline">
              <td className="font-mono">{c.from}</td>
              <td>{c.label}</td>
              <td>
                {c.to ? <b className="font-mono">{c.to}</b> : `left out: ${c.leftOut}`}
                {c.folded && " together with another one"}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Defaults({ p }: { p: Preview }) {
  if (p.defaults.length === 0) return null;
  return (
    <details id="defaults">
      <summary className="font-semibold">
        {p.new} says {p.defaults.length} {p.defaults.length === 1 ? "thing" : "things"} by itself that the converted
        configuration does not
      </summary>
      <pre className="mt-1 font-mono text-xs whitespace-pre-wrap">
        {p.defaults.map((d) => d.text.trim()).join("\n")}
      </pre>
      <Muted small>They go, unless they are kept.</Muted>
    </details>
  );
}

/** Where each replacement stands, and what comes next. */
function Standing() {
  const [release, setRelease] = useState<Replacement>();
  const go = useNavigate();
  const list = useQuery({
    queryKey: ["replacements"],
    queryFn: () => ask(api.GET("/replacements", { params: { query: { limit: 100 } } })),
    refetchInterval: 5000,
  });
  const back = useMutation({
    mutationFn: (change: number) =>
      ask(
        api.POST("/replacements/{id}/put-back", {
          params: { path: { id: change }, header: { "Idempotency-Key": newKey() } },
        }),
      ),
    onSuccess: (c) => go(`/changes/${c.id}`),
  });
  return (
    <Card title="Replacements">
      <Trouble error={list.error ?? back.error} />
      <Table<Replacement>
        rows={list.data?.items ?? []}
        id={(r) => r.change}
        empty="No device has taken the place of another one yet."
        columns={[
          {
            head: "Change",
            cell: (r) => (
              <Link className={subject} to={`/changes/${r.change}`} data-change={r.change}>
                {r.change}
              </Link>
            ),
          },
          { head: "New", cell: (r) => <Named name={r.new} model={r.newModel} /> },
          { head: "In the place of", cell: (r) => <Named name={r.old} model={r.oldModel} /> },
          { head: "State", cell: (r) => <Badge state={r.state}>{r.state}</Badge> },
          {
            head: "What comes next",
            cell: (r) => (
              <span data-replacement={r.change}>
                {oldOf(r, ago)} {nextOf(r)}{" "}
                <a
                  className="underline"
                  href={`/api/v1/replacements/${r.change}/sheet?format=html`}
                  target="_blank"
                  rel="noreferrer"
                >
                  Sheet for the rack
                </a>
              </span>
            ),
          },
          {
            head: "Acts",
            bare: true,
            cell: (r) =>
              r.kept && (
                <span className="flex flex-wrap gap-2">
                  <Button disabled={back.isPending} onClick={() => back.mutate(r.change)}>
                    Put {r.old} back
                  </Button>
                  <Button kind="risk" onClick={() => setRelease(r)}>
                    Release {r.old}
                  </Button>
                </span>
              ),
          },
        ]}
      />
      {release && <Release r={release} onClose={() => setRelease(undefined)} />}
    </Card>
  );
}

function Named({ name, model }: { name: string; model: string }) {
  return (
    <>
      <Link className={subject} to={`/devices/${name}`}>
        {name}
      </Link>{" "}
      <Muted>{model}</Muted>
    </>
  );
}

function Release({ r, onClose }: { r: Replacement; onClose: () => void }) {
  const [reason, setReason] = useState("");
  const all = useQueryClient();
  const request = useMutation({
    mutationFn: () =>
      ask(api.POST("/replacements/{id}/release", { params: { path: { id: r.change } }, body: { reason } })),
    onSuccess: () => {
      void all.invalidateQueries({ queryKey: ["replacements"] });
      onClose();
    },
  });
  return (
    <Form
      title={`Release ${r.old}`}
      action="Release it"
      id="release-old"
      kind="risk"
      ready={reason.trim().length > 2}
      request={request}
      onSubmit={() => request.mutate()}
      onClose={onClose}
    >
      <p>{r.old} is the way back of this replacement. Once it is released, it may be changed, wiped or removed.</p>
      <Field label="Why" name="reason" value={reason} onChange={(e) => setReason(e.target.value)} />
    </Form>
  );
}
