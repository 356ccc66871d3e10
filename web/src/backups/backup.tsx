// One backup: what is in it, reading a part, and putting it back with a preview of what that would change.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router-dom";
import { api, ask, newKey, type S } from "../shared/api";
import { Take, why } from "./backups";
import { Compared } from "../configurations/compare";
import { Differences } from "../configurations/differences";
import { ChooseDevice } from "../shared/choose";
import { ago, time } from "../shared/format";
import { Badge, Button, Card, Field, Form, Muted, Trouble, Waiting } from "../shared/ui";

export function BackupPage() {
  const id = Number(useParams().id);
  const queries = useQueryClient();
  const at = { params: { path: { id } } };
  const detail = useQuery({ queryKey: ["backup", id], queryFn: () => ask(api.GET("/backups/{id}", at)) });
  const [part, setPart] = useState("");
  const [holding, setHolding] = useState(false);
  const text = useQuery({
    queryKey: ["part", id, part],
    enabled: !!part,
    retry: false,
    queryFn: () => ask(api.GET("/backups/{id}/parts/{part}", { params: { path: { id, part } }, parseAs: "text" })),
  });
  const release = useMutation({
    mutationFn: () => ask(api.DELETE("/backups/{id}/hold", at)),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["backup", id] }),
  });
  if (detail.isPending) return <Waiting />;
  if (!detail.data) return <Trouble error={detail.error} />;
  const { backup: b, parts, lacks } = detail.data;
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-bold">Backup {b.id}</h1>
        <Link
          className="font-semibold underline decoration-brass underline-offset-4"
          to={`/devices/${b.device}/history`}
        >
          {b.device}
        </Link>
        <span>
          {b.model} with <b className="font-mono">{b.version}</b>, taken {time(b.takenAt)}, {why(b)}
        </span>
        {b.complete ? <Badge state="done">complete</Badge> : <Badge state="degraded">not complete</Badge>}
        {b.held && <Badge state="held">held: {b.held}</Badge>}
        <span className="ml-auto" />
        {b.held ? (
          <Button disabled={release.isPending} onClick={() => release.mutate()}>
            Release
          </Button>
        ) : (
          <Button onClick={() => setHolding(true)}>Hold</Button>
        )}
        <a
          className="rounded-sm border border-slate-400 px-3 py-1.5 font-medium dark:border-slate-500"
          href={`/api/v1/backups/${id}/export?form=archive`}
          download={`${b.device}-backup-${id}.tar.age`}
          title="Everything, encrypted to this installation and its offline key"
        >
          Archive
        </a>
        <a
          className="rounded-sm border border-slate-400 px-3 py-1.5 font-medium dark:border-slate-500"
          href={`/api/v1/backups/${id}/export?form=masked`}
          download={`${b.device}-backup-${id}.tar`}
          title="What may be read by anybody: texts with secrets masked"
        >
          Masked texts
        </a>
      </div>
      <div className="grid items-start gap-4 lg:grid-cols-2">
        <Card title="What is in it">
          <table className="w-full">
            <thead>
              <tr>
                <th>Part</th>
                <th>File</th>
                <th>Bytes</th>
                <th>How it is known to be whole</th>
                <th>
                  <span className="sr-only">Acts</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {parts.map((p) => (
                <tr key={p.name} className="border-t border-line align-top dark:border-nightline">
                  <td className="font-semibold">
                    {p.title}
                    <br />
                    <span className="text-xs font-normal text-slate-600 dark:text-slate-400">{p.kind}</span>
                  </td>
                  <td className="font-mono text-xs">{p.file}</td>
                  <td>{p.size}</td>
                  <td className="text-xs">
                    {p.proof}, by {p.by}
                    <br />
                    <span className="font-mono">{p.sha256.slice(0, 12)}</span>
                  </td>
                  <td>
                    {p.readable && (
                      <Button
                        aria-pressed={part === p.name}
                        aria-label={`Read ${p.title}`}
                        onClick={() => setPart(part === p.name ? "" : p.name)}
                      >
                        Read
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {lacks.map((l) => (
            <p key={l.name} className="mt-2 flex items-start gap-2">
              <Badge state={l.needed ? "failed" : "waiting"}>{l.needed ? "lacks" : "has no"}</Badge>
              <span>
                <b>{l.title}</b>: {l.why}
              </span>
            </p>
          ))}
        </Card>
        <Restore of={detail.data} />
      </div>
      {part && (
        <Card title={parts.find((p) => p.name === part)?.file}>
          <Trouble error={text.error} />
          <pre className="max-h-[60vh] overflow-auto font-mono text-xs">{text.data}</pre>
        </Card>
      )}
      <Hold id={id} open={holding} onClose={() => setHolding(false)} />
    </>
  );
}

function Hold({ id, open, onClose }: { id: number; open: boolean; onClose: () => void }) {
  const queries = useQueryClient();
  const [reason, setReason] = useState("");
  const hold = useMutation({
    mutationFn: () => ask(api.PUT("/backups/{id}/hold", { params: { path: { id } }, body: { reason } })),
    onSuccess: () => {
      queries.invalidateQueries({ queryKey: ["backup", id] });
      onClose();
    },
  });
  return (
    <Form
      open={open}
      onClose={onClose}
      title={`Keep backup ${id} whatever retention says?`}
      action="Hold it"
      request={hold}
      onSubmit={() => hold.mutate()}
      ready={!!reason}
    >
      <Field label="Reason" value={reason} onChange={(e) => setReason(e.target.value)} />
    </Form>
  );
}

const whatHappens: Record<S["RestorePartPreview"]["state"], { state: string; words: string }> = {
  same: { state: "kept", words: "is as it was" },
  changes: { state: "degraded", words: "changes" },
  new: { state: "degraded", words: "is not there now" },
  unknown: { state: "failed", words: "cannot be put back" },
};

/** Puts a backup back: first what that would change on the device now, then a change like any other. */
function Restore({ of }: { of: S["BackupDetail"] }) {
  const go = useNavigate();
  const id = of.backup.id;
  const can = of.parts.filter((p) => p.restorable);
  const [device, setDevice] = useState(of.backup.device);
  const [parts, setParts] = useState(can.filter((p) => p.kind !== "system").map((p) => p.name));
  const [newHostKey, setNewHostKey] = useState(false);
  const [guarded, setGuarded] = useState(false);
  const [conversion, setConversion] = useState("");
  const wish = {
    device,
    parts,
    expectNewHostKey: newHostKey || undefined,
    acceptGuarded: guarded || undefined,
    conversion: conversion ? Number(conversion) : undefined,
  };
  const at = { path: { id } };
  const preview = useMutation({
    mutationFn: () => ask(api.POST("/backups/{id}/restore-preview", { params: at, body: wish })),
  });
  const draft = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/backups/{id}/restore", { params: { ...at, header: { "Idempotency-Key": newKey() } }, body: wish }),
      ),
    onSuccess: (c) => go(`/changes/${c.id}`),
  });
  const change = () => {
    preview.reset();
    draft.reset();
  }; // what was previewed is not what is wished any more
  const p = preview.data;
  return (
    <Card title="Put it back">
      <div className="space-y-3">
        <ChooseDevice
          label="On"
          value={device}
          onChange={(name) => {
            setDevice(name);
            change();
          }}
        />
        {device !== of.backup.device && <Muted>It was taken on {of.backup.device}, which is another device.</Muted>}
        <fieldset>
          <legend className="text-xs font-semibold">Parts</legend>
          {can.map((x) => (
            <label key={x.name} className="flex items-center gap-2">
              <input
                type="checkbox"
                checked={parts.includes(x.name)}
                onChange={() => {
                  setParts((now) => (now.includes(x.name) ? now.filter((y) => y !== x.name) : [...now, x.name]));
                  change();
                }}
              />
              {x.title}
              <span className="font-mono text-xs text-slate-600 dark:text-slate-400">{x.file}</span>
            </label>
          ))}
          {can.length === 0 && <p>Nothing in it can be put back.</p>}
        </fieldset>
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            checked={newHostKey}
            onChange={() => {
              setNewHostKey(!newHostKey);
              change();
            }}
          />
          the device may show another host key than the pinned one
        </label>
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            checked={guarded}
            onChange={() => {
              setGuarded(!guarded);
              change();
            }}
          />
          guarded settings may change as the preview shows
        </label>
        <Field
          label="Conversion"
          hint="number of a worked-out conversion of this backup, where the device runs another version or model"
          value={conversion}
          onChange={(e) => {
            setConversion(e.target.value.replace(/\D/g, ""));
            change();
          }}
        />
        <div className="flex gap-2">
          <Button
            kind={p ? "plain" : "main"}
            disabled={!parts.length || preview.isPending}
            onClick={() => preview.mutate()}
          >
            {preview.isPending ? "Asking the device ..." : "What would it change?"}
          </Button>
          {p && p.refusals.length === 0 && (
            <Button kind="main" disabled={draft.isPending} onClick={() => draft.mutate()}>
              Draft the change
            </Button>
          )}
        </div>
        <Trouble error={preview.error ?? draft.error} />
        {p && (
          <div className="space-y-3" role="status">
            <p>
              {p.device} is a {p.model} with <span className="font-mono">{p.version}</span>.
            </p>
            {p.notes.map((n) => (
              <p key={n} className="flex items-start gap-2">
                <Badge state="degraded">note</Badge>
                {n}
              </p>
            ))}
            {p.refusals.map((n) => (
              <p key={n} className="flex items-start gap-2">
                <Badge state="failed">not so</Badge>
                <span>{n}</span>
              </p>
            ))}
            {p.parts.map((x) => (
              <div key={x.name} className="border-t border-line pt-2 dark:border-nightline">
                <p className="flex flex-wrap items-center gap-2">
                  <b>{x.title}</b>
                  <Badge state={whatHappens[x.state].state}>{whatHappens[x.state].words}</Badge>
                  {x.restart && <Badge state="degraded">restarts the device</Badge>}
                  {x.save && <span className="text-xs">saved afterwards</span>}
                </p>
                {x.note && <p className="text-xs">{x.note}</p>}
                {x.state === "changes" && x.differences.length > 0 && (
                  <div className="mt-2 max-h-72 overflow-y-auto">
                    <Differences of={x.differences} />
                  </div>
                )}
              </div>
            ))}
          </div>
        )}
      </div>
    </Card>
  );
}

/** Every distinct state of a device's configuration; two of them compared; drift. */
export function HistoryPage() {
  const name = useParams().name!;
  const go = useNavigate();
  const path = { params: { path: { name } } };
  const history = useQuery({
    queryKey: ["history", name],
    queryFn: () => ask(api.GET("/devices/{name}/history", path)),
  });
  const attempts = useQuery({
    queryKey: ["health", "attempts", name],
    refetchInterval: 5000,
    queryFn: () => ask(api.GET("/devices/{name}/backup-attempts", path)),
  });
  const drift = useMutation({ mutationFn: () => ask(api.GET("/devices/{name}/drift", path)) });
  const [picked, setPicked] = useState<number[]>([]);
  const [a, b] = [...picked].sort((x, y) => x - y);
  if (history.isPending) return <Waiting />;
  const d = drift.data;
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-bold">History of {name}</h1>
        <Link className="underline" to={`/devices/${name}`}>
          The device
        </Link>
        <span className="ml-auto" />
        <Button disabled={drift.isPending} onClick={() => drift.mutate()}>
          {drift.isPending ? "Asking the device ..." : "Drift now?"}
        </Button>
        <Take device={name} />
      </div>
      <Trouble error={history.error ?? drift.error} />
      {d && (
        <div className="grid items-start gap-4 lg:grid-cols-2">
          <Card title="From what is saved to what runs">
            <Differences of={d.unsaved} />
            {d.note && <p className="mt-2 text-xs">{d.note}</p>}
          </Card>
          <Card title={d.backup ? `From backup ${d.backup.id} to what runs` : "There is no backup yet"}>
            <Differences of={d.sinceBackup} />
          </Card>
        </div>
      )}
      <div className="grid items-start gap-4 lg:grid-cols-[7fr_5fr]">
        <Card
          title="Distinct states of its configuration"
          aside={
            <Button disabled={picked.length !== 2} onClick={() => go(`/backups/${a}/compare/${b}`)}>
              Compare two
            </Button>
          }
        >
          <table className="w-full">
            <thead>
              <tr>
                <th>
                  <span className="sr-only">Acts</span>
                </th>
                <th>First in</th>
                <th>Version</th>
                <th>First seen</th>
                <th>Last seen</th>
                <th>By</th>
              </tr>
            </thead>
            <tbody>
              {history.data?.items.map((s) => (
                <tr key={s.backup.id} className="border-t border-line dark:border-nightline">
                  <td>
                    <input
                      type="checkbox"
                      aria-label={`State of backup ${s.backup.id}`}
                      checked={picked.includes(s.backup.id)}
                      onChange={() =>
                        setPicked((p) =>
                          p.includes(s.backup.id) ? p.filter((y) => y !== s.backup.id) : [...p.slice(-1), s.backup.id],
                        )
                      }
                    />
                  </td>
                  <td>
                    <Link
                      className="font-semibold underline decoration-brass underline-offset-4"
                      to={`/backups/${s.backup.id}`}
                    >
                      backup {s.backup.id}
                    </Link>
                  </td>
                  <td className="font-mono">{s.backup.version}</td>
                  <td className="whitespace-nowrap">{time(s.backup.takenAt)}</td>
                  <td className="whitespace-nowrap">
                    {ago(s.lastSeen)}
                    {s.times > 1 && `, ${s.times} times`}
                  </td>
                  <td>{why(s.backup)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {history.data?.items.length === 0 && <p>No backup yet.</p>}
        </Card>
        <Card title="Attempts to back it up">
          <ul className="space-y-2">
            {attempts.data?.items.map((x) => (
              <li key={x.id}>
                <Badge
                  state={{ complete: "done", failed: "failed", running: "running" }[x.outcome as string] ?? "degraded"}
                >
                  {x.outcome}
                </Badge>{" "}
                {time(x.beganAt)}, {x.reason}
                {x.backup && (
                  <>
                    ,{" "}
                    <Link className="underline" to={`/backups/${x.backup}`}>
                      backup {x.backup}
                    </Link>
                  </>
                )}
                {x.detail && <p className="text-xs">{x.detail}</p>}
              </li>
            ))}
          </ul>
        </Card>
      </div>
    </>
  );
}

/** Two backups side by side. */
export function ComparePage() {
  const { id, other } = useParams();
  const [a, b] = [Number(id), Number(other)];
  const compare = useQuery({
    queryKey: ["compare", a, b],
    retry: false,
    queryFn: () => ask(api.POST("/configurations/compare", { body: { old: { backup: a }, new: { backup: b } } })),
  });
  const one = useQuery({
    queryKey: ["backup", a],
    queryFn: () => ask(api.GET("/backups/{id}", { params: { path: { id: a } } })),
  });
  const two = useQuery({
    queryKey: ["backup", b],
    queryFn: () => ask(api.GET("/backups/{id}", { params: { path: { id: b } } })),
  });
  const parts = useQuery({
    queryKey: ["compare", "parts", a, b],
    retry: false,
    queryFn: () => ask(api.GET("/backups/{id}/compare/{other}", { params: { path: { id: a, other: b } } })),
  });
  const name = (d?: S["BackupDetail"]) =>
    d ? `Backup ${d.backup.id} of ${d.backup.device}, ${d.backup.version}, ${time(d.backup.takenAt)}` : "";
  return (
    <>
      <h1 className="text-lg font-bold">
        Backup {a} and backup {b}
      </h1>
      <div className="grid grid-cols-2 gap-4 text-slate-600 dark:text-slate-400">
        <span>{name(one.data)}</span>
        <span>{name(two.data)}</span>
      </div>
      <Trouble error={compare.error} />
      {parts.data && (
        <p className="flex flex-wrap gap-2">
          {parts.data.parts.map((p) => (
            <Badge key={p.name} state={p.state === "same" ? "kept" : "degraded"}>
              {p.title}: {p.state}
            </Badge>
          ))}
        </p>
      )}
      {compare.isPending && <Waiting />}
      {compare.data && (
        <Compared
          old={compare.data.oldText}
          now={compare.data.newText}
          of={compare.data.items}
          names={["Old", "New"]}
        />
      )}
    </>
  );
}
