// Backups of the fleet: how they are, every one of them, looking through them, when they are taken and how long they are kept.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useNavigate } from "react-router-dom";
import { api, ask, type Backup, type S } from "../shared/api";
import { ago, size, time } from "../shared/format";
import { type Column, Find, More, Table, useFind, useList } from "../shared/list";
import { Badge, Button, Card, Field, muted, Muted, Pick, subject, Tabs, Trouble, Waiting } from "../shared/ui";

export const BackupsPage = () => (
  <Tabs
    label="What to see"
    before={<h1 className="text-lg font-bold">Backups</h1>}
    after={<Muted>Secrets are never shown.</Muted>}
    panel="space-y-4"
    tabs={[
      { id: "health", name: "Health", show: <Health /> },
      { id: "all", name: "All backups", show: <All /> },
      { id: "search", name: "Search", show: <Search /> },
      { id: "rhythm", name: "Schedules and keeping", show: <Rhythm /> },
      { id: "store", name: "The store", show: <Store /> },
    ]}
  />
);

const named: Record<S["BackupHealth"]["health"], { state: string; words: string }> = {
  good: { state: "done", words: "good" },
  late: { state: "degraded", words: "late" },
  incomplete: { state: "degraded", words: "not complete" },
  failed: { state: "failed", words: "failed" },
  missed: { state: "degraded", words: "missed" },
  never: { state: "failed", words: "never backed up" },
};

/** Takes a backup of a device now. */
export function Take({ device, label = "Back up now" }: { device: string; label?: string }) {
  const queries = useQueryClient();
  const take = useMutation({
    mutationFn: () => ask(api.POST("/backups", { body: { device } })),
    onSettled: () => {
      for (const k of ["health", "backups", "history"]) queries.invalidateQueries({ queryKey: [k] });
    },
  });
  return (
    <>
      <Button disabled={take.isPending} title={`Take a backup of ${device} now`} onClick={() => take.mutate()}>
        {take.isPending ? "Taking ..." : label}
      </Button>
      {take.error && <Trouble error={take.error} />}
    </>
  );
}

const healthColumns: Column<S["BackupHealth"]>[] = [
  {
    head: "Device",
    cell: (h) => (
      <>
        <Link className={subject} to={`/devices/${h.device}/history`}>
          {h.device}
        </Link>
        <br />
        <Muted small>{h.site}</Muted>
      </>
    ),
  },
  { head: "Health", cell: (h) => <Badge state={named[h.health].state}>{named[h.health].words}</Badge> },
  {
    head: "Last good",
    className: "whitespace-nowrap",
    cell: (h) =>
      h.lastGood ? (
        <Link className="underline" to={`/backups/${h.lastGoodId}`}>
          {ago(h.lastGood)}
        </Link>
      ) : (
        "none"
      ),
  },
  { head: "Kept", className: "whitespace-nowrap", cell: (h) => `${h.bundles}, ${size(h.bytes)}` },
  { head: "Next by schedule", className: "whitespace-nowrap", cell: (h) => (h.next ? time(h.next) : "never") },
  {
    head: "Last attempt",
    cell: (h) =>
      h.last && (
        <>
          <span className="whitespace-nowrap">
            {h.last.outcome}, {ago(h.last.beganAt)} ({h.last.reason})
          </span>
          {h.last.detail && <p className="text-xs">{h.last.detail}</p>}
          {h.failures > 1 && <p className="text-xs font-semibold">{h.failures} in a row</p>}
        </>
      ),
  },
  { head: "Take a backup", bare: true, cell: (h) => <Take device={h.device} /> },
];

function Health() {
  const { text, setText, find } = useFind();
  const { query, first, rows } = useList(
    ["health", find],
    (cursor) => ask(api.GET("/backup-health", { params: { query: { cursor, limit: 100, find } } })),
    5000,
  );
  if (query.isPending) return <Waiting />;
  const total = first?.total ?? 0;
  return (
    <>
      <Trouble error={query.error} />
      <Card
        title={first?.bad ? `${first.bad} of ${total} devices need a look` : `All ${total} devices are well backed up`}
        aside={<Find label="Find devices" hint="Name, site or group" text={text} onChange={setText} />}
      >
        <Table columns={healthColumns} rows={rows} id={(h) => h.device} empty="No device fits." />
        <More query={query} />
      </Card>
    </>
  );
}

export const why = (b: Backup) =>
  b.change
    ? b.hop
      ? `before hop ${b.hop} of change ${b.change}`
      : `change ${b.change}`
    : { demand: "on demand", schedule: "by schedule", change: "before a change", import: "imported" }[b.reason];

function All() {
  const go = useNavigate();
  const { text, setText, find } = useFind();
  const { query, rows } = useList(
    ["backups", find],
    (cursor) => ask(api.GET("/backups", { params: { query: { cursor, find, limit: 100 } } })),
    5000,
  );
  const [picked, setPicked] = useState<number[]>([]);
  const [a, b] = [...picked].sort((x, y) => x - y);
  const columns: Column<Backup>[] = [
    {
      head: "Pick two to compare",
      bare: true,
      cell: (x) => (
        <input
          type="checkbox"
          aria-label={`Backup ${x.id}`}
          checked={picked.includes(x.id)}
          onChange={() => setPicked((p) => (p.includes(x.id) ? p.filter((y) => y !== x.id) : [...p.slice(-1), x.id]))}
        />
      ),
    },
    {
      head: "Backup",
      cell: (x) => (
        <Link className={subject} to={`/backups/${x.id}`}>
          {x.id}
        </Link>
      ),
    },
    { head: "Device", cell: (x) => <Link to={`/devices/${x.device}/history`}>{x.device}</Link> },
    { head: "Model", cell: (x) => x.model },
    { head: "Version", className: "font-mono", cell: (x) => x.version },
    { head: "Size", className: "whitespace-nowrap", cell: (x) => size(x.size) },
    {
      head: "Complete",
      cell: (x) => (
        <>
          {x.complete ? (
            <Badge state="done">complete</Badge>
          ) : (
            <Badge state="degraded">lacks {x.lacks.join(", ")}</Badge>
          )}{" "}
          {x.held && <Badge state="held">held: {x.held}</Badge>}
        </>
      ),
    },
    { head: "Taken", className: muted, cell: (x) => `${time(x.takenAt)}, ${why(x)}` },
  ];
  if (query.isPending) return <Waiting />;
  return (
    <>
      <Trouble error={query.error} />
      <Card
        title="All backups"
        aside={
          <span className="flex gap-2">
            <Find label="Find backups" hint="Device, model or version" text={text} onChange={setText} />
            <Button disabled={picked.length !== 2} onClick={() => go(`/backups/${a}/compare/${b}`)}>
              Compare two
            </Button>
          </span>
        }
      >
        <Table
          columns={columns}
          rows={rows}
          id={(x) => x.id}
          empty={
            find
              ? "No backup fits."
              : "No backup yet. Take one on the health page; every change takes one before each hop."
          }
        />
        <More query={query} />
      </Card>
      <Import />
    </>
  );
}

/** Takes a bundle over that was taken elsewhere. */
function Import() {
  const queries = useQueryClient();
  const [file, setFile] = useState<File>();
  const [device, setDevice] = useState("");
  const take = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/backup-imports", {
          params: { query: { device: device || undefined } },
          body: file as unknown as string,
          bodySerializer: (b) => b,
          headers: { "Content-Type": "application/octet-stream" },
        }),
      ),
    onSuccess: () => {
      for (const k of ["health", "backups", "history"]) queries.invalidateQueries({ queryKey: [k] });
    },
  });
  return (
    <Card title="Take over a backup that was exported elsewhere">
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          take.mutate();
        }}
      >
        <label className="block">
          <span className="mb-1 block text-xs font-semibold">Archive, .tar.age or .tar</span>
          <input
            type="file"
            aria-label="Archive"
            onChange={(e) => {
              setFile(e.target.files?.[0]);
              take.reset();
            }}
          />
        </label>
        <Field
          label="Device it belongs to"
          hint="empty for the one it names"
          name="import-device"
          value={device}
          onChange={(e) => setDevice(e.target.value.trim())}
        />
        <Button kind="main" type="submit" disabled={!file || take.isPending}>
          Take over
        </Button>
        {take.data && (
          <span role="status">
            It is{" "}
            <Link className="underline" to={`/backups/${take.data.id}`}>
              backup {take.data.id}
            </Link>{" "}
            of {take.data.device} now.
          </span>
        )}
      </form>
      <Trouble error={take.error} />
    </Card>
  );
}

function Search() {
  const [text, setText] = useState("");
  const [pattern, setPattern] = useState(false);
  const search = useMutation({ mutationFn: () => ask(api.POST("/backup-search", { body: { text, pattern } })) });
  const r = search.data;
  return (
    <>
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          search.mutate();
        }}
      >
        <div className="w-96">
          <Field
            label="Text in the latest configuration of every device"
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
        </div>
        <label className="flex items-center gap-1.5 pb-2">
          <input type="checkbox" checked={pattern} onChange={() => setPattern(!pattern)} />a regular expression
        </label>
        <Button kind="main" type="submit" disabled={!text || search.isPending}>
          Search
        </Button>
      </form>
      <Trouble error={search.error} />
      {r && (
        <Card title={`${r.items.length}${r.more ? " and more" : ""} lines in ${r.devices} configurations`}>
          <table className="w-full">
            <tbody>
              {r.items.map((h) => (
                <tr key={`${h.device} ${h.line}`} className="border-t border-line first:border-0 dark:border-nightline">
                  <td className="w-44">
                    <Link className="font-semibold underline" to={`/backups/${h.backup}`}>
                      {h.device}
                    </Link>
                  </td>
                  <td className="w-24 text-slate-600 dark:text-slate-400">line {h.line}</td>
                  <td className="font-mono text-xs">{h.text}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {r.unread.map((u) => (
            <p key={u} className="mt-2 font-semibold">
              ? {u}
            </p>
          ))}
        </Card>
      )}
    </>
  );
}

function Rhythm() {
  const queries = useQueryClient();
  const all = useQuery({ queryKey: ["schedules"], queryFn: () => ask(api.GET("/backup-schedules")) });
  const [of, setOf] = useState<"every" | "group" | "device">("every");
  const [v, setV] = useState({ name: "", when: "30 1 * * *", spread: "120", days: "90", count: "30" });
  const done = () => queries.invalidateQueries({ queryKey: ["schedules"] });
  const put = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/backup-schedules", {
          body: {
            ...(of === "every" ? {} : { [of]: v.name }),
            when: v.when,
            spreadMinutes: Number(v.spread),
            keepDays: Number(v.days),
            keepCount: Number(v.count),
          },
        }),
      ),
    onSuccess: done,
  });
  const prune = useMutation({
    mutationFn: () => ask(api.POST("/backup-prune")),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["health"] }),
  });
  const drop = useMutation({
    mutationFn: (id: number) => ask(api.DELETE("/backup-schedules/{id}", { params: { path: { id } } })),
    onSuccess: done,
  });
  const field = (key: keyof typeof v, label: string, hint?: string) => (
    <Field label={label} hint={hint} value={v[key]} onChange={(e) => setV({ ...v, [key]: e.target.value })} />
  );
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[7fr_5fr]">
      <Card title="When backups are taken, and how long they are kept">
        <Trouble error={all.error ?? drop.error} />
        <table className="w-full">
          <thead>
            <tr>
              <th>Of</th>
              <th>When</th>
              <th>Spread over</th>
              <th>Kept</th>
              <th>Changed</th>
              <th>
                <span className="sr-only">Acts</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {all.data?.items.map((s) => (
              <tr key={s.id} className="border-t border-line dark:border-nightline">
                <td className="font-semibold">{s.device ?? (s.group ? `group ${s.group}` : "every other device")}</td>
                <td className="font-mono">{s.when || "never"}</td>
                <td>{s.spreadMinutes} min</td>
                <td>
                  {s.keepDays} days, and the last {s.keepCount}
                </td>
                <td className="text-xs text-slate-600 dark:text-slate-400">{s.changedBy}</td>
                <td>
                  {(s.device || s.group) && (
                    <Button
                      aria-label={`Delete the schedule of ${s.device ?? s.group}`}
                      onClick={() => drop.mutate(s.id!)}
                    >
                      Delete
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <p className="mt-3 text-xs text-slate-600 dark:text-slate-400">
          Whatever the rule says, the last complete backup stays, and so does one that a change points to or that is
          held.
        </p>
        <div className="mt-3 flex items-center gap-3">
          <Button disabled={prune.isPending} onClick={() => prune.mutate()}>
            Let go now what is not kept
          </Button>
          {prune.data && <span role="status">{prune.data.let} let go</span>}
          <Muted small>It happens every hour by itself.</Muted>
        </div>
        <Trouble error={prune.error} />
      </Card>
      <Card title="Set a schedule">
        <form
          className="space-y-3"
          onSubmit={(e: FormEvent) => {
            e.preventDefault();
            put.mutate();
          }}
        >
          <Pick label="Of" value={of} onChange={(x) => setOf(x as typeof of)}>
            <option value="every">every device that has no other</option>
            <option value="group">a group</option>
            <option value="device">one device</option>
          </Pick>
          {of !== "every" && field("name", of === "group" ? "Group" : "Device")}
          {field("when", "When", "minute, hour, day of month, month, day of week, as in crontab; empty for never")}
          <div className="grid grid-cols-3 gap-3">
            {field("spread", "Spread, minutes")}
            {field("days", "Keep days")}
            {field("count", "Keep the last")}
          </div>
          <Trouble error={put.error} />
          <Button kind="main" type="submit" disabled={put.isPending}>
            Set
          </Button>
        </form>
      </Card>
    </div>
  );
}

function Store() {
  const check = useMutation({ mutationFn: (deep: boolean) => ask(api.POST("/backup-check", { body: { deep } })) });
  const c = check.data;
  return (
    <div className="grid items-start gap-4 lg:grid-cols-2">
      <Card title="Prove the whole store">
        <p>
          Every byte on the disk is held against what was written, and every backup must be there with all its parts.
          The deep check unpacks every content as well.
        </p>
        <div className="mt-3 flex gap-2">
          <Button kind="main" disabled={check.isPending} onClick={() => check.mutate(false)}>
            {check.isPending ? "Checking ..." : "Check"}
          </Button>
          <Button disabled={check.isPending} onClick={() => check.mutate(true)}>
            Deep check
          </Button>
        </div>
        <Trouble error={check.error} />
        {c && (
          <div className="mt-4 space-y-2" role="status">
            <p>
              <Badge state={c.damages.length ? "failed" : "done"}>
                {c.damages.length ? `${c.damages.length} damages` : "all as it was written"}
              </Badge>{" "}
              {c.volumes} volumes, {c.bundles} backups, {c.objects} contents; {size(c.stored)} read
              {c.content > 0 && `, ${size(c.content)} unpacked`} in {c.seconds.toFixed(1)} s
            </p>
            {c.damages.map((d, i) => (
              <div key={i}>
                <p className="font-semibold">
                  {d.volume} {d.what}
                </p>
                {d.backups.map((b) => (
                  <p key={b.id} className="ml-4">
                    hits backup {b.id} of {b.device}, taken {time(b.takenAt)}
                  </p>
                ))}
              </div>
            ))}
          </div>
        )}
      </Card>
      <Notify />
    </div>
  );
}

function Notify() {
  const queries = useQueryClient();
  const now = useQuery({ queryKey: ["notifications"], queryFn: () => ask(api.GET("/notifications")) });
  const [edited, setEdited] = useState<Partial<S["Notifications"]>>({});
  const v = { webhook: "", smtp: "", smtpUser: "", from: "", to: [] as string[], ...now.data, ...edited };
  const put = useMutation({
    mutationFn: () => ask(api.PUT("/notifications", { body: v })),
    onSuccess: () => {
      setEdited({});
      queries.invalidateQueries({ queryKey: ["notifications"] });
    },
  });
  const test = useMutation({ mutationFn: () => ask(api.POST("/notifications")) });
  const field = (key: "webhook" | "smtp" | "smtpUser" | "from", label: string, hint?: string) => (
    <Field
      label={label}
      hint={hint}
      value={v[key]}
      onChange={(e) => {
        const x = e.target.value;
        setEdited((now) => ({ ...now, [key]: x }));
      }}
    />
  );
  return (
    <Card title="Who hears of failed and missed backups">
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate();
        }}
      >
        {field("webhook", "Webhook", "gets each notice as JSON")}
        <div className="grid grid-cols-2 gap-3">
          {field("smtp", "Mail server", "host:port")}
          {field("smtpUser", "User there")}
        </div>
        <Field
          label="Password there"
          type="password"
          autoComplete="off"
          hint="never shown; left empty it stays"
          value={v.smtpPassword ?? ""}
          onChange={(e) => {
            const x = e.target.value;
            setEdited((now) => ({ ...now, smtpPassword: x || undefined }));
          }}
        />
        <div className="grid grid-cols-2 gap-3">
          {field("from", "Sender")}
          <Field
            label="To"
            hint="with commas"
            value={v.to.join(",")}
            onChange={(e) => {
              const x = e.target.value;
              setEdited((now) => ({ ...now, to: x ? x.split(",").map((a) => a.trim()) : [] }));
            }}
          />
        </div>
        <Trouble error={now.error ?? put.error ?? test.error} />
        <div className="flex items-center gap-2">
          <Button kind="main" type="submit" disabled={put.isPending}>
            Write
          </Button>
          <Button disabled={test.isPending} onClick={() => test.mutate()}>
            Send a test
          </Button>
          {test.isSuccess && <span role="status">The test was delivered.</span>}
        </div>
      </form>
    </Card>
  );
}
