// Keys to the boxes and keys of the installation. What is secret goes in and never comes out.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router-dom";
import { api, ask, newKey, type S } from "../shared/api";
import { ago, time } from "../shared/format";
import { Find, More, Table, useFind, useList, type Column } from "../shared/list";
import { Button, Card, Field, Form, muted, Muted, Pick, Trouble, Waiting } from "../shared/ui";

type Kind = S["CredentialKind"];

const kinds: Record<Kind, string> = {
  password: "user and password",
  key: "user and private key",
  privileged: "privileged password",
  "http-token": "token of the HTTP side",
  "snmp-v3": "SNMP v3",
  certificate: "certificate for TLS",
  "snmp-community": "SNMP v2c, a community",
  console: "console line",
};

export function KeysPage() {
  const queries = useQueryClient();
  const { text, setText, find } = useFind();
  const { query, rows } = useList(
    ["credentials", find],
    (cursor) => ask(api.GET("/credentials", { params: { query: { cursor, limit: 100, find } } })),
    30000,
  );
  const audit = useQuery({
    queryKey: ["audit"],
    refetchInterval: 5000,
    queryFn: () => ask(api.GET("/audit", { params: { query: { limit: 50 } } })),
  });
  const drop = useMutation({
    mutationFn: (id: number) => ask(api.DELETE("/credentials/{id}", { params: { path: { id } } })),
    onSuccess: () => {
      setDropping(null);
      queries.invalidateQueries({ queryKey: ["credentials"] });
    },
  });
  const [dropping, setDropping] = useState<S["Credential"] | null>(null);
  const columns: Column<S["Credential"]>[] = [
    {
      head: "Opens",
      className: "font-semibold",
      cell: (c) => (c.device ? <Link to={`/devices/${c.device}`}>{c.device}</Link> : `group ${c.group}`),
    },
    { head: "Kind", cell: (c) => kinds[c.kind] },
    { head: "User", className: "font-mono text-xs", cell: (c) => c.user },
    { head: "Versions", cell: (c) => (c.versions ? <span className="font-mono">{c.versions}</span> : "any") },
    { head: "Used", className: `whitespace-nowrap ${muted}`, cell: (c) => (c.usedAt ? ago(c.usedAt) : "never") },
    {
      head: "Delete",
      bare: true,
      cell: (c) => (
        <Button aria-label={`Delete credential ${c.id}`} onClick={() => setDropping(c)}>
          Delete
        </Button>
      ),
    },
  ];
  if (query.isPending) return <Waiting />;
  return (
    <>
      <div className="flex items-center gap-3">
        <h1 className="text-lg font-bold">Keys</h1>
        <Muted>What is secret goes in and never comes out. Every use leaves a line below.</Muted>
      </div>
      <div className="grid items-start gap-4 lg:grid-cols-[7fr_5fr]">
        <Card
          title="Keys to the boxes"
          aside={<Find label="Find keys" hint="Device, group, kind or user" text={text} onChange={setText} />}
        >
          <Trouble error={query.error} />
          <Table columns={columns} rows={rows} id={(c) => c.id} empty="No key fits." />
          <More query={query} />
        </Card>
        <div className="space-y-4">
          <Add />
          <Tries />
          <Installation />
        </div>
      </div>
      <Card title="Who used which key">
        <table className="w-full">
          <thead>
            <tr>
              <th>When</th>
              <th>Who</th>
              <th>What</th>
              <th>Device</th>
              <th>Detail</th>
            </tr>
          </thead>
          <tbody>
            {audit.data?.items.map((l) => (
              <tr key={l.id} className="border-t border-line dark:border-nightline">
                <td className="whitespace-nowrap">{time(l.at)}</td>
                <td>{l.who}</td>
                <td>{l.event}</td>
                <td>{l.device}</td>
                <td>{l.detail}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Card>
      <Form
        open={!!dropping}
        onClose={() => setDropping(null)}
        title={`Delete credential ${dropping?.id}?`}
        action="Delete it"
        kind="risk"
        cancel="Keep it"
        request={drop}
        onSubmit={() => drop.mutate(dropping!.id)}
      >
        <p>It opens {dropping?.device ?? `group ${dropping?.group}`}. Nobody can bring it back.</p>
      </Form>
    </>
  );
}

const secretFields: Record<Kind, [keyof S["NewCredential"], string][]> = {
  password: [["password", "Password"]],
  console: [["password", "Password"]],
  privileged: [["password", "Password"]],
  "http-token": [["token", "Token"]],
  "snmp-community": [["password", "Community"]],
  certificate: [
    ["certificate", "Certificate"],
    ["privateKey", "Private key"],
  ],
  key: [
    ["privateKey", "Private key"],
    ["passphrase", "Passphrase, if there is one"],
  ],
  "snmp-v3": [
    ["authPassword", "Authentication password"],
    ["privPassword", "Privacy password"],
  ],
};

function Add() {
  const queries = useQueryClient();
  const [of, setOf] = useState<"device" | "group">("device");
  const [kind, setKind] = useState<Kind>("password");
  const [v, setV] = useState<Record<string, string>>({});
  const add = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/credentials", {
          params: { header: { "Idempotency-Key": newKey() } },
          body: {
            [of]: v.name,
            kind,
            user: v.user,
            versions: v.versions,
            ...Object.fromEntries(secretFields[kind].map(([k]) => [k, v[k] || undefined])),
          },
        }),
      ),
    onSuccess: () => {
      setV({});
      queries.invalidateQueries({ queryKey: ["credentials"] });
    },
  });
  const set = (key: string) => (e: { target: { value: string } }) => {
    const x = e.target.value;
    setV((now) => ({ ...now, [key]: x }));
  };
  return (
    <Card title="Add a key">
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <div className="grid grid-cols-2 gap-3">
          <Pick label="Of" value={of} onChange={(x) => setOf(x as typeof of)}>
            <option value="device">a device</option>
            <option value="group">a group</option>
          </Pick>
          <Field
            label={of === "device" ? "Device" : "Group"}
            name="credential-of"
            value={v.name ?? ""}
            onChange={set("name")}
          />
          <Pick label="Kind" value={kind} onChange={(x) => setKind(x as Kind)}>
            {(Object.keys(kinds) as Kind[]).map((k) => (
              <option key={k} value={k}>
                {kinds[k]}
              </option>
            ))}
          </Pick>
          <Field
            label="Versions"
            hint="such as 4.x; empty for any"
            name="credential-versions"
            value={v.versions ?? ""}
            onChange={set("versions")}
          />
        </div>
        {!["privileged", "http-token", "snmp-community", "certificate"].includes(kind) && (
          <Field label="User" name="credential-user" autoComplete="off" value={v.user ?? ""} onChange={set("user")} />
        )}
        {secretFields[kind].map(([k, label]) =>
          k === "privateKey" || k === "certificate" ? (
            <label key={k} className="block">
              <span className="mb-1 block text-xs font-semibold">{label}</span>
              <textarea
                rows={4}
                value={v[k] ?? ""}
                onChange={set(k)}
                className="w-full rounded-sm border border-slate-400 bg-transparent px-2 py-1.5 font-mono text-xs dark:border-slate-600"
              />
            </label>
          ) : (
            <Field
              key={k}
              label={label}
              name={`credential-${k}`}
              type="password"
              autoComplete="off"
              value={v[k] ?? ""}
              onChange={set(k)}
            />
          ),
        )}
        <Trouble error={add.error} />
        <div className="flex items-center gap-3">
          <Button kind="main" type="submit" disabled={add.isPending || !v.name}>
            Add
          </Button>
          {add.isSuccess && <span role="status">Added; it is never shown again.</span>}
        </div>
      </form>
    </Card>
  );
}

function Tries() {
  const queries = useQueryClient();
  const now = useQuery({ queryKey: ["tries"], queryFn: () => ask(api.GET("/sign-in-tries")) });
  const [v, setV] = useState<{ bound: string; rest: string }>();
  const put = useMutation({
    mutationFn: () =>
      ask(api.PUT("/sign-in-tries", { body: { bound: Number(v!.bound), restSeconds: Number(v!.rest) } })),
    onSuccess: () => {
      setV(undefined);
      queries.invalidateQueries({ queryKey: ["tries"] });
    },
  });
  const shown = v ?? { bound: String(now.data?.bound ?? ""), rest: String(now.data?.restSeconds ?? "") };
  return (
    <Card title="Trying never locks an account">
      <form
        className="flex items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate();
        }}
      >
        <Field
          label="Refused in a row"
          value={shown.bound}
          onChange={(e) => setV({ ...shown, bound: e.target.value })}
        />
        <Field
          label="Then rest, seconds"
          value={shown.rest}
          onChange={(e) => setV({ ...shown, rest: e.target.value })}
        />
        <Button type="submit" disabled={!v || put.isPending}>
          Set
        </Button>
      </form>
      <Trouble error={now.error ?? put.error} />
    </Card>
  );
}

function Installation() {
  const queries = useQueryClient();
  const keys = useQuery({ queryKey: ["keys"], queryFn: () => ask(api.GET("/keys")) });
  const [which, setWhich] = useState<"data" | "installation" | null>(null);
  const rotate = useMutation({
    mutationFn: () => ask(api.POST("/keys", { body: { which: which! } })),
    onSuccess: (d) => {
      queries.setQueryData(["keys"], d);
      queries.invalidateQueries({ queryKey: ["audit"] });
      setWhich(null);
    },
  });
  const k = keys.data;
  return (
    <Card title="Keys of this installation">
      <Trouble error={keys.error} />
      {k && (
        <>
          <p className="font-mono text-xs break-all">{k.recipient}</p>
          {k.older.map((o) => (
            <p key={o} className="font-mono text-xs break-all">
              on its way out: {o}
            </p>
          ))}
          <p className="mt-2">
            Data key {k.dataKey}, made {ago(k.dataKeyAt)}.{" "}
            {k.offline
              ? `${k.offline} offline key reads backups, too.`
              : "No offline key reads backups; give one with -offline-recipient."}
          </p>
          <div className="mt-3 flex gap-2">
            <Button onClick={() => setWhich("data")}>New data key</Button>
            <Button onClick={() => setWhich("installation")}>New key of the installation</Button>
          </div>
        </>
      )}
      <Form
        open={!!which}
        onClose={() => setWhich(null)}
        title={which === "data" ? "Make a new data key?" : "Make a new key of the installation?"}
        action={rotate.isPending ? "Encrypting ..." : "Make it"}
        id="rotate"
        request={rotate}
        onSubmit={() => rotate.mutate()}
      >
        <p>
          {which === "data"
            ? "Every secret of the records is encrypted anew with it. Nothing stops meanwhile."
            : "Data keys and every backup are encrypted anew. Nothing stops meanwhile. Keep a new offline copy of the key file afterwards: the old one opens nothing any more."}
        </p>
      </Form>
    </Card>
  );
}
