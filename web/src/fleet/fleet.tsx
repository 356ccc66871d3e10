import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router-dom";
import type { operations } from "../api.gen";
import { api, ask, newKey, type Device, type S } from "../shared/api";
import { useDialects } from "../shared/service";
import { EnsemblesCard } from "../ensembles/ensembles";
import { entered, SettingsFields } from "./dialogs";
import { ago, mib } from "../shared/format";
import { Find, More, Table, useFind, useList, type Column, type Sort } from "../shared/list";
import { Badge, Button, Card, Field, Form, muted, Muted, Pick, subject, Trouble, Waiting } from "../shared/ui";

type Order = NonNullable<operations["listDevices"]["parameters"]["query"]>["sort"] & string;

const columns: Column<Device, Order>[] = [
  {
    head: "Device",
    sort: "name",
    cell: (d) => (
      <>
        <Link className={subject} to={`/devices/${d.name}`}>
          {d.name}
        </Link>
        {d.ensemble && (
          <Muted small className="block">
            in {d.ensemble}
          </Muted>
        )}
      </>
    ),
  },
  { head: "Site", sort: "site", cell: (d) => d.site },
  { head: "Model", sort: "model", cell: (d) => d.portrait && `${d.portrait.maker} ${d.portrait.model}` },
  { head: "Runs", className: "font-mono", cell: (d) => d.portrait?.version },
  { head: "Stands", sort: "standing", cell: (d) => <Stands d={d} /> },
  {
    head: "Storage free",
    cell: (d) => d.portrait && (d.portrait.storageFree !== undefined ? mib(d.portrait.storageFree) : "not known"),
  },
  {
    head: "As of",
    sort: "asOf",
    className: muted,
    cell: (d) =>
      d.portrait && (
        <>
          {ago(d.standing?.at ?? d.portrait.takenAt)}
          {d.standing?.state === "no-answer" && `, seen ${ago(d.portrait.takenAt)}`}
        </>
      ),
  },
  {
    head: "Change",
    cell: (d) =>
      d.openChange && (
        <Link to={`/changes/${d.openChange}`}>
          <Badge state="running">change {d.openChange}</Badge>
        </Link>
      ),
  },
];

function Stands({ d }: { d: Device }) {
  if (!d.portrait) return <Muted>{d.standing?.text ?? "nobody has looked at it yet"}</Muted>;
  const state = d.standing?.state ?? "not known";
  return (
    <span title={d.standing?.text}>
      <Badge state={state}>{state.replace("-", " ")}</Badge>
    </span>
  );
}

export function FleetPage() {
  const { text, setText, find } = useFind();
  const [sort, setSort] = useState<Sort<Order>>({ by: "name", descending: false });
  const [adding, setAdding] = useState(false);
  const { query, first, rows } = useList(
    ["devices", "list", find, sort],
    (cursor) =>
      ask(
        api.GET("/devices", {
          params: { query: { cursor, limit: 100, find, sort: sort.by, descending: sort.descending } },
        }),
      ),
    3000,
  );
  if (query.isPending) return <Waiting />;
  return (
    <>
      <div className="flex flex-wrap items-end gap-3">
        <h1 className="text-lg font-bold">Fleet</h1>
        <Muted className="pb-0.5">
          {fleetSize(first?.total ?? rows.length, !!find)}
          {rows.length < (first?.total ?? 0) && `, the first ${rows.length} of them`}
        </Muted>
        <Find label="Find devices" hint="Name, site, model or version" text={text} onChange={setText} />
        <Link id="bring-up" className="underline" to="/bring-up">
          Bring blank devices up
        </Link>
        <Link id="replace" className="underline" to="/replace">
          Replace devices
        </Link>
        <Link id="services" className="underline" to="/services">
          Services
        </Link>
        <Link id="spares" className="underline" to="/spares">
          Spares
        </Link>
        <Link id="media" className="underline" to="/media">
          Media
        </Link>
        <Button onClick={() => setAdding(true)}>Add device</Button>
      </div>
      <Trouble error={query.error} />
      <EnsemblesCard />
      <Card>
        <Table
          columns={columns}
          rows={rows}
          id={(d) => d.name}
          sort={sort}
          onSort={setSort}
          empty={find ? "No device fits." : "No device yet. Add one."}
        />
        <More query={query} />
      </Card>
      <AddDevice open={adding} onClose={() => setAdding(false)} />
    </>
  );
}

function AddDevice({ open, onClose }: { open: boolean; onClose: () => void }) {
  const queries = useQueryClient();
  const dialects = useDialects();
  const empty = {
    name: "",
    site: "",
    address: "",
    dialect: "",
    user: "",
    password: "",
    privilegedPassword: "",
    hostKey: "",
  };
  const [d, setD] = useState(empty);
  const [settings, setSettings] = useState<S["DeviceSettings"]>({});
  const add = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/devices", {
          params: { header: { "Idempotency-Key": newKey() } },
          body: { ...d, ...entered(settings) },
        }),
      ),
    onSuccess: () => {
      queries.invalidateQueries({ queryKey: ["devices"] });
      setD(empty);
      setSettings({});
      onClose();
    },
  });
  const field = (key: keyof typeof empty, label: string, hint?: string, type = "text") => (
    <Field
      label={label}
      hint={hint}
      type={type}
      name={key}
      autoComplete="off"
      value={d[key]}
      onChange={(e) => setD({ ...d, [key]: e.target.value })}
    />
  );
  return (
    <Form open={open} onClose={onClose} title="Add a device" action="Add" request={add} onSubmit={() => add.mutate()}>
      <div className="grid grid-cols-2 gap-3">
        {field("name", "Name")}
        {field("site", "Site")}
        {field("address", "Address", "host:port of its SSH")}
        <Pick id="dialect" label="Dialect" value={d.dialect} onChange={(dialect) => setD({ ...d, dialect })}>
          <option value="">choose one</option>
          {dialects.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </Pick>
      </div>
      <div className="grid grid-cols-3 gap-3">
        {field("user", "User")}
        {field("password", "Password", undefined, "password")}
        {field("privilegedPassword", "Privileged password", undefined, "password")}
      </div>
      <SettingsFields v={settings} onChange={setSettings} />
      {field("hostKey", "Host key", "when it is known, in authorized-keys form; otherwise the first contact pins it")}
    </Form>
  );
}

/** How many devices there are, or fit what is looked for. */
function fleetSize(n: number, looking: boolean) {
  if (n === 1) return looking ? "1 device fits" : "1 device";
  return `${n} devices${looking ? " fit" : ""}`;
}
