// Bringing blank devices up: templates of configurations, and a table with one device a line.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router-dom";
import { api, ask, newKey, type Change, type S } from "../shared/api";
import { ago } from "../shared/format";
import { Badge, Button, Card, Field, Form, Mark, Muted, Pick, subject, Trouble, Waiting } from "../shared/ui";
import { Calls } from "./calls";
import { readTable, type Row } from "./table";

type Template = S["Template"];

export function BringUpPage() {
  const list = useQuery({ queryKey: ["templates"], queryFn: () => ask(api.GET("/templates")) });
  if (list.isPending) return <Waiting />;
  if (!list.data) return <Trouble error={list.error} />;
  return (
    <>
      <h1 className="text-lg font-bold">Bring blank devices up</h1>
      <p className="max-w-prose">
        A device out of its crate gets a password of ours, its licences, the wanted release, its configuration and its
        address in one change, and is held against what that configuration promises. It has to be in the{" "}
        <Link className="underline" to="/">
          fleet
        </Link>{" "}
        with its first address and its first password.
      </p>
      <Templates of={list.data.items} />
      <Devices templates={list.data.items} />
      <Calls />
    </>
  );
}

function Templates({ of }: { of: Template[] }) {
  const [editing, setEditing] = useState<string | null>(null);
  return (
    <Card
      title="Templates"
      aside={
        <Button id="new-template" onClick={() => setEditing("")}>
          New template
        </Button>
      }
    >
      {of.length === 0 && <p>There is none yet. A template is a configuration with placeholders.</p>}
      <ul>
        {of.map((t) => (
          <li
            key={t.name}
            data-template={t.name}
            className="flex flex-wrap items-baseline gap-x-3 border-t border-line py-2 first:border-t-0 dark:border-nightline"
          >
            <b>{t.name}</b> {t.title}
            <Muted>
              {t.models.length ? `for ${t.models.join(", ")}` : "for any model"}; takes{" "}
              {t.values.map((v) => v.name + (v.default || v.optional ? " (may be left out)" : "")).join(", ")}; kept{" "}
              {ago(t.updatedAt)} by {t.updatedBy}
            </Muted>
            <span className="ml-auto" />
            <Button aria-label={`Edit ${t.name}`} onClick={() => setEditing(t.name)}>
              Edit
            </Button>
          </li>
        ))}
      </ul>
      {editing !== null && <Editor name={editing} onClose={() => setEditing(null)} />}
    </Card>
  );
}

const blank = `format: verimorph-template/1
title: 
values:
  - {name: name, type: name}
---
box.name = {{name}}
`;

/** Edits a template; what is wrong with it is told with line and column, and nothing is kept then. */
function Editor({ name, onClose }: { name: string; onClose: () => void }) {
  const queries = useQueryClient();
  const kept = useQuery({
    queryKey: ["template", name],
    enabled: name !== "",
    queryFn: () => ask(api.GET("/templates/{name}", { params: { path: { name } } })),
  });
  const [as, setAs] = useState(name);
  const [typed, setTyped] = useState<string | null>(null);
  const text = typed ?? kept.data?.text ?? (name === "" ? blank : "");
  const done = () => {
    queries.invalidateQueries({ queryKey: ["templates"] });
    queries.invalidateQueries({ queryKey: ["template", as.trim()] });
    onClose();
  };
  const keep = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/templates/{name}", {
          params: { path: { name: as.trim() } },
          body: text,
          bodySerializer: (b) => b,
          headers: { "Content-Type": "text/plain" },
        }),
      ),
    onSuccess: done,
  });
  return (
    <Form
      onClose={onClose}
      title={name === "" ? "New template" : `Template ${name}`}
      action="Keep"
      id="keep-template"
      ready={as.trim() !== "" && text !== ""}
      request={keep}
      onSubmit={() => keep.mutate()}
    >
      {name === "" && <Field label="Name" name="template-name" value={as} onChange={(e) => setAs(e.target.value)} />}
      <Trouble error={kept.error} />
      <label className="block">
        <span className="mb-1 block text-xs font-semibold">Head, three dashes, and the configuration</span>
        <textarea
          name="template-text"
          rows={18}
          spellCheck={false}
          value={text}
          onChange={(e) => setTyped(e.target.value)}
          className="w-full rounded-sm border border-slate-400 bg-transparent px-2 py-1.5 font-mono text-xs dark:border-slate-600"
        />
      </label>
    </Form>
  );
}

/** A file that was chosen. */
type Configuration = { name: string; text: string };

function Devices({ templates }: { templates: Template[] }) {
  const [name, setName] = useState(templates[0]?.name ?? "");
  const template = templates.find((t) => t.name === name) ?? templates[0];
  const [to, setTo] = useState("");
  const [content, setContent] = useState("");
  const [file, setFile] = useState<Configuration>();
  const [typed, setTyped] = useState<string | null>(null);
  const values = file || !template ? [] : template.values.map((v) => v.name);
  const head = ["device", "device.comes-back-at", ...values].join(",");
  const text = typed ?? head + "\n";
  const { rows, wrong } = readTable(text);
  const check = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/templates/{name}/fill", {
          params: { path: { name: template!.name } },
          body: { file: "the table", rows: rows.map(({ device, line, values }) => ({ device, line, values })) },
        }),
      ),
  });
  const fits = file
    ? rows.length > 0 && wrong.length === 0
    : !!check.data && check.data.items.every((f) => f.wrong.length === 0);
  return (
    <Card title="Devices">
      <div className="grid gap-3 sm:grid-cols-2">
        <Pick
          id="template"
          label="Template"
          value={template?.name ?? ""}
          onChange={(v) => {
            setName(v);
            check.reset();
          }}
        >
          {templates.map((t) => (
            <option key={t.name} value={t.name}>
              {t.name}
            </option>
          ))}
        </Pick>
        <label className="block">
          <span className="mb-1 block text-xs font-semibold">or a file with the configuration, in its place</span>
          <input
            type="file"
            name="configuration"
            onChange={async (e) => {
              const f = e.target.files?.[0];
              setFile(f && { name: f.name, text: await f.text() });
              check.reset();
            }}
            className="w-full text-sm"
          />
        </label>
        <Field
          label="Release"
          name="to"
          hint="a version, preferred, newest or train:T; empty: it stays on its release"
          value={to}
          onChange={(e) => setTo(e.target.value)}
        />
        <Field
          label="Content"
          name="content"
          hint="files of the catalogue beside the main image, such as signatures, with commas; empty: none"
          value={content}
          onChange={(e) => setContent(e.target.value)}
        />
      </div>
      <label className="mt-3 block">
        <span className="mb-1 block text-xs font-semibold">
          One device a line, with commas; secrets are sealed at once and not shown again
        </span>
        <textarea
          name="table"
          rows={6}
          spellCheck={false}
          value={text}
          onChange={(e) => {
            setTyped(e.target.value);
            check.reset();
          }}
          className="w-full rounded-sm border border-slate-400 bg-transparent px-2 py-1.5 font-mono text-xs dark:border-slate-600"
        />
      </label>
      {typed !== null && wrong.map((w) => <Line key={w} state="failed" text={w} />)}
      <p className="mt-2 flex gap-2">
        {!file && template && (
          <Button id="check-table" disabled={wrong.length > 0 || check.isPending} onClick={() => check.mutate()}>
            Check all values
          </Button>
        )}
      </p>
      <Trouble error={check.error} />
      {check.data && (
        <ul id="checked" className="mt-2">
          {check.data.items.map((f) => (
            <li key={f.device} data-checked={f.device}>
              <details open={f.wrong.length > 0}>
                <summary className="cursor-pointer">
                  <b>{f.device}</b>{" "}
                  {f.wrong.length ? `: ${f.wrong.length} values are missing or do not fit` : ": all values fit"}
                </summary>
                {f.wrong.map((w) => (
                  <Line key={w} state="failed" text={w} />
                ))}
                {f.used.map((u) => (
                  <p key={u.name} className="ml-6">
                    {u.name}: <span className="font-mono">{u.value}</span> <Muted>from {u.from}</Muted>
                    {u.over && <Muted>; not from {u.over.join(", ")}</Muted>}
                  </p>
                ))}
              </details>
            </li>
          ))}
        </ul>
      )}
      {fits && (
        <Drafts
          key={text + to + content + file?.name}
          rows={rows}
          template={file ? undefined : template?.name}
          configuration={file}
          to={to.trim()}
          content={content
            .split(",")
            .map((c) => c.trim())
            .filter(Boolean)}
        />
      )}
    </Card>
  );
}

function Line({ state, text }: { state: string; text: string }) {
  return (
    <p className="ml-6 flex items-center gap-2">
      <Mark state={state} /> {text}
    </p>
  );
}

type Outcome = { device: string; change?: Change; error?: unknown };

/** Drafts a change for each device, one after the other: each is looked at first. */
function Drafts({
  rows,
  template,
  configuration,
  to,
  content,
}: {
  rows: Row[];
  template?: string;
  configuration?: Configuration;
  to: string;
  content: string[];
}) {
  const [done, setDone] = useState<Outcome[]>([]);
  const draft = useMutation({
    mutationFn: async () => {
      setDone([]);
      for (const r of rows) {
        let out: Outcome;
        try {
          const change = await ask(
            api.POST("/bring-ups", {
              params: { header: { "Idempotency-Key": newKey() } },
              body: {
                device: r.device,
                template,
                configuration,
                to: r.about.to ?? (to || undefined),
                content: content.length ? content : undefined,
                serial: r.about.serial,
                calls: r.about.calls === "yes",
                model: r.about.model,
                comesBackAt: r.about["comes-back-at"],
                file: "the table",
                row: { device: r.device, line: r.line, values: r.values },
              },
            }),
          );
          out = { device: r.device, change };
        } catch (error) {
          out = { device: r.device, error };
        }
        setDone((was) => [...was, out]);
      }
    },
  });
  return (
    <div className="mt-3 space-y-2">
      <Button id="draft-all" kind="main" disabled={draft.isPending || draft.isSuccess} onClick={() => draft.mutate()}>
        {draft.isPending
          ? `Looking at ${rows[Math.min(done.length, rows.length - 1)].device} ...`
          : rows.length === 1
            ? "Draft a change"
            : `Draft ${rows.length} changes`}
      </Button>
      <ul id="drafted" aria-live="polite">
        {done.map((o) => (
          <li key={o.device} className="flex flex-wrap items-center gap-2">
            <b>{o.device}</b>
            {o.change && (
              <>
                <Link className={subject} to={`/changes/${o.change.id}`}>
                  change {o.change.id}
                </Link>
                <Badge state={o.change.state}>{o.change.state}</Badge> {o.change.steps.length} steps
              </>
            )}
            <Trouble error={o.error} />
          </li>
        ))}
      </ul>
    </div>
  );
}
