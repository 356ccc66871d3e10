// The image store: what is there and why, what arrives, and where more comes from.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { api, ask, pages } from "../shared/api";
import { duration, mib } from "../shared/format";
import { Badge, Bar, Button, Card, Field, Form, Mark, Muted, Trouble } from "../shared/ui";
import { Licences } from "./licences";
import { clearSending, send, useSendings } from "./uploads";

export function ImagesPage() {
  const queries = useQueryClient();
  const fresh = () => {
    for (const key of ["images", "retention", "fetches", "uploads"]) queries.invalidateQueries({ queryKey: [key] });
  };
  return (
    <>
      <h1 className="text-lg font-bold">Images</h1>
      <Arriving onDone={fresh} />
      <Findings />
      <Store onChange={fresh} />
      <Sites />
      <Licences />
    </>
  );
}

function Findings() {
  const keep = useQuery({ queryKey: ["retention"], queryFn: () => ask(api.GET("/images/retention")) });
  if (!keep.data?.devices.length) return null;
  return (
    <div role="status" className="rounded-md border border-amber-700/40 bg-amber-50 p-3 dark:bg-amber-950/50">
      {keep.data.devices.map((d) => (
        <p key={d.device} className="flex items-center gap-2">
          <Mark state="pending" />{" "}
          <span>
            <b>{d.device}</b>: {d.text}.
          </span>
        </p>
      ))}
    </div>
  );
}

/** Uploads and downloads with their progress. */
function Arriving({ onDone }: { onDone: () => void }) {
  const sendings = useSendings();
  const waiting = useQuery({ queryKey: ["uploads"], queryFn: () => ask(api.GET("/uploads")), refetchInterval: 5000 });
  const fetches = useQuery({
    queryKey: ["fetches"],
    queryFn: () => ask(api.GET("/fetches")),
    refetchInterval: (q) =>
      q.state.data?.items.some((f) => f.state === "running" || f.state === "waiting") ? 700 : 5000,
  });
  const act = useMutation({
    mutationFn: (v: { id: number; action: "pause" | "resume" | "stop" }) =>
      ask(api.POST("/fetches/{id}/{action}", { params: { path: v } })),
    onSettled: onDone,
  });
  const drop = useMutation({
    mutationFn: (id: number) => ask(api.DELETE("/uploads/{id}", { params: { path: { id } } })),
    onSettled: onDone,
  });
  const left = (waiting.data?.items ?? []).filter(
    (u) => !sendings.some((s) => s.file === u.file && !s.error && !s.image),
  );
  const recent = (fetches.data?.items ?? []).filter((f, i) => f.state !== "done" || i < 5);
  const arrived = fetches.data?.items.filter((f) => f.state === "done").length;
  const done = useRef(onDone);
  done.current = onDone;
  useEffect(() => {
    if (arrived) done.current();
  }, [arrived]); // the store has more now
  const add = (files: File[]) => {
    for (const f of files.filter((f) => !f.name.endsWith(".sig")))
      void send(
        f,
        files.find((s) => s.name === f.name + ".sig"),
        onDone,
      );
  };
  return (
    <Card title="Arriving" aside={<Upload name="Upload images" many busy={false} onFiles={add} />}>
      <Trouble error={act.error ?? drop.error} />
      {sendings.length + left.length + recent.length === 0 && (
        <p className="text-slate-600 dark:text-slate-400">
          Nothing is arriving. Uploads go on while you look at other pages; one that broke off goes on when the same
          file is chosen again.
        </p>
      )}
      <div className="space-y-2">
        {sendings.map((s) => (
          <div key={s.key} data-upload={s.file} className="grid grid-cols-[15rem_1fr_17rem_9rem] items-center gap-3">
            <span className="truncate font-semibold" title={s.file}>
              {s.file}
            </span>
            {s.error !== undefined ? (
              <Trouble error={s.error} />
            ) : (
              <Bar fraction={s.image ? 1 : s.sent / s.size} label={`${s.file} sent`} />
            )}
            <span>
              {s.image ? (
                <Badge state="done">
                  {s.image.already ? "was there already" : s.image.signed ? "signature is right" : "in the store"}
                </Badge>
              ) : s.error !== undefined ? (
                ""
              ) : (
                `${mib(s.sent)} of ${mib(s.size)}, upload`
              )}
            </span>
            <span>
              {(s.image || s.error !== undefined) && (
                <Button className="!py-0.5" onClick={() => clearSending(s.key)}>
                  Clear
                </Button>
              )}
            </span>
          </div>
        ))}
        {left.map((u) => (
          <div key={u.id} className="grid grid-cols-[15rem_1fr_17rem_9rem] items-center gap-3">
            <span className="truncate font-semibold">{u.file}</span>
            <Bar fraction={u.offset / u.size} label={`${u.file} sent`} />
            <span>
              <Badge state="held">broke off</Badge> at {mib(u.offset)} of {mib(u.size)}, {u.startedBy}
            </span>
            <Button className="!py-0.5" onClick={() => drop.mutate(u.id)}>
              Drop
            </Button>
          </div>
        ))}
        {recent.map((f) => (
          <div key={f.id} data-fetch={f.file} className="grid grid-cols-[15rem_1fr_17rem_9rem] items-center gap-3">
            <span className="truncate font-semibold" title={f.file}>
              {f.file}
            </span>
            <span>
              <Bar fraction={f.done / f.size} label={`${f.file} fetched`} />
              <Muted small>{f.note}</Muted>
            </span>
            <span>
              <Badge state={f.state} />{" "}
              {f.state === "running" && f.secondsLeft !== undefined ? `${duration(f.secondsLeft)} left` : mib(f.done)}{" "}
              from {f.site}
            </span>
            <span className="flex gap-1">
              {(f.state === "running" || f.state === "waiting") && (
                <Button className="!py-0.5" onClick={() => act.mutate({ id: f.id, action: "pause" })}>
                  Pause
                </Button>
              )}
              {(f.state === "paused" || f.state === "failed") && (
                <Button className="!py-0.5" onClick={() => act.mutate({ id: f.id, action: "resume" })}>
                  Resume
                </Button>
              )}
              {f.state !== "done" && f.state !== "stopped" && (
                <Button className="!py-0.5" onClick={() => act.mutate({ id: f.id, action: "stop" })}>
                  Stop
                </Button>
              )}
            </span>
          </div>
        ))}
      </div>
    </Card>
  );
}

function Store({ onChange }: { onChange: () => void }) {
  const images = useQuery({
    queryKey: ["images"],
    queryFn: () => pages((cursor) => ask(api.GET("/images", { params: { query: { cursor, limit: 500 } } }))),
  });
  const keep = useQuery({ queryKey: ["retention"], queryFn: () => ask(api.GET("/images/retention")) });
  const [asked, setAsked] = useState<string | null>(null);
  const check = useMutation({ mutationFn: () => ask(api.POST("/images/check")) });
  const remove = useMutation({
    mutationFn: (sha256: string) => ask(api.DELETE("/images/{sha256}", { params: { path: { sha256 } } })),
    onSettled: onChange,
    onSuccess: () => setAsked(null),
  });
  const needed = new Map(keep.data?.images.map((i) => [i.sha256, i]));
  const doomed = images.data?.find((i) => i.sha256 === asked);
  return (
    <Card
      title={`In the store${images.data ? `: ${images.data.length}` : ""}`}
      aside={
        <span className="flex items-center gap-3">
          {check.data && (
            <span role="status">
              {check.data.damaged.length === 0 ? (
                <Badge state="done">all {check.data.checked} are as they should be</Badge>
              ) : (
                <Badge state="failed">
                  {check.data.damaged.length} of {check.data.checked} damaged
                </Badge>
              )}
            </span>
          )}
          <Button disabled={check.isPending} onClick={() => check.mutate()}>
            {check.isPending ? "Reading ..." : "Check all"}
          </Button>
        </span>
      }
    >
      <Trouble error={images.error ?? keep.error ?? check.error} />
      {check.data?.damaged.map((d) => (
        <p key={d} role="alert">
          {d}
        </p>
      ))}
      <table className="w-full">
        <thead>
          <tr>
            <th>File</th>
            <th>Version</th>
            <th>For</th>
            <th>Size</th>
            <th>Signed</th>
            <th>SHA-256</th>
            <th>Needed by</th>
            <th>
              <span className="sr-only">Acts</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {images.data?.map((im) => {
            const k = needed.get(im.sha256);
            return (
              <tr key={im.sha256} className="border-t border-line dark:border-nightline">
                <td className="font-semibold">{im.file}</td>
                <td className="font-mono">
                  {im.part && `${im.part} `}
                  {im.version}
                </td>
                <td>{im.models.join(", ")}</td>
                <td className="whitespace-nowrap">{mib(im.size)}</td>
                <td>{im.signed ? <Badge state="done">yes</Badge> : "-"}</td>
                <td className="font-mono text-xs">{im.sha256.slice(0, 16)}…</td>
                <td>{k && (k.deletable ? <Muted>nothing</Muted> : k.needed.join("; "))}</td>
                <td>
                  {k?.deletable && (
                    <Button className="!py-0.5" aria-label={`Delete ${im.file}`} onClick={() => setAsked(im.sha256)}>
                      Delete
                    </Button>
                  )}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <Form
        open={!!doomed}
        onClose={() => setAsked(null)}
        title={`Delete ${doomed?.file}?`}
        action="Delete it"
        kind="risk"
        cancel="Keep it"
        request={remove}
        onSubmit={() => asked && remove.mutate(asked)}
      >
        <p>Nothing needs it now. It can be added or fetched again later.</p>
      </Form>
    </Card>
  );
}

function Sites() {
  const queries = useQueryClient();
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => ask(api.GET("/sites")) });
  const [open, setOpen] = useState<string | null>(null);
  const [adding, setAdding] = useState(false);
  const forget = useMutation({
    mutationFn: (name: string) => ask(api.DELETE("/sites/{name}", { params: { path: { name } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["sites"] }),
  });
  return (
    <Card title="Release sites" aside={<Button onClick={() => setAdding(true)}>Add a site</Button>}>
      <Trouble error={sites.error ?? forget.error} />
      <table className="w-full">
        <thead>
          <tr>
            <th>Site</th>
            <th>Address</th>
            <th>Contract</th>
            <th>Maker</th>
            <th>Contract until</th>
            <th>Last contact</th>
            <th>
              <span className="sr-only">Acts</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {sites.data?.items.map((s) => (
            <tr key={s.name} className="border-t border-line dark:border-nightline">
              <td className="font-semibold">{s.name}</td>
              <td className="font-mono">{s.url}</td>
              <td>{s.user}</td>
              <td>{s.maker || "all"}</td>
              <td>{s.contractEnds ?? "-"}</td>
              <td>
                {s.trouble ? (
                  <Badge state="failed">{s.trouble}</Badge>
                ) : s.contractEnds ? (
                  <Badge state="done">well</Badge>
                ) : (
                  "-"
                )}
              </td>
              <td>
                <Button className="!py-0.5" onClick={() => setOpen(open === s.name ? null : s.name)}>
                  {open === s.name ? "Close" : "What it offers"}
                </Button>{" "}
                <Button className="!py-0.5" aria-label={`Forget ${s.name}`} onClick={() => forget.mutate(s.name)}>
                  Forget
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {sites.data?.items.length === 0 && (
        <p>None yet. With a release site, images that a change lacks are fetched by themselves.</p>
      )}
      {open && <SiteFiles name={open} />}
      <AddSite
        open={adding}
        onClose={() => {
          setAdding(false);
          queries.invalidateQueries({ queryKey: ["sites"] });
        }}
      />
    </Card>
  );
}

function SiteFiles({ name }: { name: string }) {
  const queries = useQueryClient();
  const [word, setWord] = useState("");
  const files = useQuery({
    queryKey: ["site", name],
    queryFn: () => ask(api.GET("/sites/{name}/files", { params: { path: { name } } })),
    retry: false,
  });
  const fetch = useMutation({
    mutationFn: (file: string) => ask(api.POST("/fetches", { body: { files: [file], site: name } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["fetches"] }),
  });
  const shown = (files.data?.items ?? []).filter((f) => f.file.includes(word));
  return (
    <div className="mt-4 space-y-3">
      <Trouble error={files.error ?? fetch.error} />
      {files.isPending && <p>Asking ...</p>}
      {files.data && (
        <div className="w-64">
          <Field
            label={`${shown.length} of ${files.data.items.length} files`}
            type="search"
            placeholder="part of a name"
            value={word}
            onChange={(e) => setWord(e.target.value)}
          />
        </div>
      )}
      <table className="w-full">
        <tbody>
          {shown.slice(0, 40).map((f) => (
            <tr key={f.file} className="border-t border-line dark:border-nightline">
              <td className="font-semibold">{f.file}</td>
              <td>{mib(f.size)}</td>
              <td>{f.signed && "signed"}</td>
              <td className="font-mono text-xs">{f.sha256.slice(0, 16)}…</td>
              <td>{f.text && <Badge state="failed">{f.text}</Badge>}</td>
              <td>
                {f.there ? (
                  <Badge state="done">in the store</Badge>
                ) : (
                  f.known && (
                    <Button className="!py-0.5" aria-label={`Fetch ${f.file}`} onClick={() => fetch.mutate(f.file)}>
                      Fetch
                    </Button>
                  )
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {shown.length > 40 && <p className="text-slate-600 dark:text-slate-400">The first 40; type part of a name.</p>}
    </div>
  );
}

function AddSite({ open, onClose }: { open: boolean; onClose: () => void }) {
  const empty = { name: "", url: "", user: "", password: "", maker: "" };
  const [v, setV] = useState(empty);
  const put = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/sites/{name}", {
          params: { path: { name: v.name } },
          body: { url: v.url, user: v.user, password: v.password, maker: v.maker || undefined },
        }),
      ),
    onSuccess: () => {
      setV(empty);
      onClose();
    },
  });
  const field = (key: keyof typeof empty, label: string, type = "text", hint?: string) => (
    <Field
      label={label}
      type={type}
      hint={hint}
      autoComplete="off"
      value={v[key]}
      onChange={(e) => setV({ ...v, [key]: e.target.value })}
    />
  );
  return (
    <Form
      open={open}
      onClose={onClose}
      title="Add a release site"
      action="Add"
      request={put}
      onSubmit={() => put.mutate()}
    >
      {field("name", "Name", "text", "small letters, digits, dashes")}
      {field("url", "Address")}
      {field("user", "Support contract")}
      {field("password", "Password", "password", "encrypted at once and never shown again")}
      {field("maker", "Maker", "text", "left out: all makers")}
    </Form>
  );
}

export function Upload({
  name,
  accept,
  busy,
  many,
  onFile,
  onFiles,
}: {
  name: string;
  accept?: string;
  busy: boolean;
  many?: boolean;
  onFile?: (f: File) => void;
  onFiles?: (fs: File[]) => void;
}) {
  const input = useRef<HTMLInputElement>(null);
  return (
    <>
      <input
        ref={input}
        type="file"
        accept={accept}
        multiple={many}
        hidden
        onChange={(e) => {
          const fs = [...(e.target.files ?? [])];
          if (fs.length) {
            onFiles?.(fs);
            onFile?.(fs[0]);
          }
          e.target.value = "";
        }}
      />
      <Button disabled={busy} onClick={() => input.current?.click()}>
        {busy ? "Sending ..." : name}
      </Button>
    </>
  );
}
