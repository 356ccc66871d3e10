// Units in stock: which sites have one that fits, where each unit stands, and what comes next.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useNavigate } from "react-router-dom";
import { api, ask, newKey, type S } from "../shared/api";
import { ChooseDevice } from "../shared/choose";
import { Table } from "../shared/list";
import { Badge, Button, Card, Field, Form, Muted, subject, Trouble, Waiting } from "../shared/ui";
import { bySite, covers, linesOf, plain, summary } from "./words";

type Spare = S["Spare"];
type Act = "prepare" | "ship" | "swap" | "arrive" | "wiped" | "retire";

export function SparesPage() {
  const [act, setAct] = useState<{ what: Act; of: Spare }>();
  return (
    <>
      <h1 className="text-lg font-bold">Spares</h1>
      <Overview />
      <Units onAct={(what, of) => setAct({ what, of })} />
      {act && <ActForm key={act.what + act.of.serial} {...act} onClose={() => setAct(undefined)} />}
    </>
  );
}

/** Which unit would stand in for each device today. */
function Overview() {
  const q = useQuery({
    queryKey: ["spares", "overview"],
    queryFn: () => ask(api.GET("/spares/overview")),
    refetchInterval: 30000,
  });
  const sites = bySite(q.data?.items ?? []);
  return (
    <Card title="Which sites have a spare that fits">
      <Trouble error={q.error} />
      {q.isPending ? (
        <Waiting />
      ) : (
        <>
          <p id="without">{summary(q.data?.items ?? [])}</p>
          <div className="mt-2 grid gap-3 md:grid-cols-2 xl:grid-cols-3">
            {sites.map((s) => (
              <div key={s.site} data-site={s.site}>
                <h2 className="font-semibold">{s.site || "No site"}</h2>
                <ul>
                  {s.devices.map((d) => (
                    <li key={d.device} className="flex flex-wrap items-center gap-2" title={d.why}>
                      <Badge state={covers[d.state]}>{plain(d.state)}</Badge>
                      <Link className={subject} to={`/devices/${d.device}`}>
                        {d.device}
                      </Link>
                      <Muted small>{d.serial ?? d.model}</Muted>
                    </li>
                  ))}
                </ul>
              </div>
            ))}
          </div>
        </>
      )}
    </Card>
  );
}

function Units({ onAct }: { onAct: (what: Act, of: Spare) => void }) {
  const list = useQuery({ queryKey: ["spares"], queryFn: () => ask(api.GET("/spares")), refetchInterval: 5000 });
  return (
    <Card title="Units">
      <Trouble error={list.error} />
      <Table<Spare>
        rows={list.data?.items ?? []}
        id={(x) => x.serial}
        empty="No unit is in stock yet."
        columns={[
          { head: "Serial", cell: (x) => <b className="font-mono">{x.serial}</b> },
          { head: "Model", cell: (x) => `${x.model} ${x.version}` },
          { head: "State", cell: (x) => <State x={x} /> },
          { head: "For", cell: (x) => <For x={x} /> },
          { head: "What comes next", cell: (x) => <Next x={x} /> },
          { head: "Acts", bare: true, cell: (x) => <Acts x={x} onAct={(what) => onAct(what, x)} /> },
        ]}
      />
      <Add />
    </Card>
  );
}

const tone: Record<Spare["state"], string> = {
  "in-stock": "kept",
  preparing: "running",
  prepared: "pass",
  shipped: "running",
  "in-service": "pass",
  "coming-back": "running",
  arrived: "held",
  retired: "not-applicable",
};

const State = ({ x }: { x: Spare }) => (
  <span data-spare={x.serial} className="inline-flex flex-wrap gap-1">
    <Badge state={tone[x.state]}>{plain(x.state)}</Badge>
    {x.stale && <Badge state="degraded">out of date</Badge>}
  </span>
);

function For({ x }: { x: Spare }) {
  if (x.was)
    return (
      <Muted>
        was{" "}
        <Link className={subject} to={`/devices/${x.was}`}>
          {x.was}
        </Link>
      </Muted>
    );
  if (!x.for) return <Muted>{x.place}</Muted>;
  return (
    <>
      <Link className={subject} to={`/devices/${x.for}`}>
        {x.for}
      </Link>{" "}
      <Muted>{x.site}</Muted>
    </>
  );
}

function Next({ x }: { x: Spare }) {
  const change =
    x.state === "preparing" ? x.prepare : x.state === "shipped" || x.state === "prepared" ? x.swap : undefined;
  return (
    <>
      {x.next}{" "}
      {change !== undefined && (
        <Link className={subject} to={`/changes/${change}`}>
          change {change}
        </Link>
      )}{" "}
      {(x.state === "prepared" || x.state === "shipped") && (
        <a className="underline" href={`/api/v1/spares/${encodeURIComponent(x.serial)}/note?format=pdf`}>
          Label and note
        </a>
      )}
    </>
  );
}

const acts: Partial<Record<Spare["state"], Act[]>> = {
  "in-stock": ["prepare", "retire"],
  prepared: ["ship", "swap", "prepare", "retire"],
  shipped: ["swap", "retire"],
  "coming-back": ["arrive", "retire"],
  arrived: ["wiped", "retire"],
};
const named: Record<Act, string> = {
  prepare: "Prepare",
  ship: "Ship",
  swap: "Put in service",
  arrive: "It is back",
  wiped: "Prove that it is wiped",
  retire: "Retire",
};

const Acts = ({ x, onAct }: { x: Spare; onAct: (what: Act) => void }) => (
  <span className="flex flex-wrap gap-2">
    {(acts[x.state] ?? []).map((a) => (
      <Button key={a} data-act={`${a} ${x.serial}`} kind={a === "retire" ? "risk" : undefined} onClick={() => onAct(a)}>
        {named[a]}
      </Button>
    ))}
  </span>
);

/** One thing that an act asks for: a text, lines of text, a device that is chosen, or whether something is so. */
type Asked = { name: string; label: string; hint?: string; as?: "device" | "lines" | "check"; needed?: boolean };

const asks: Record<Act, { about: string; fields: Asked[] }> = {
  prepare: {
    about: "It gets the release and the configuration of the newest backup of the device, on the bench.",
    fields: [
      { name: "for", label: "The device that it stands by for", as: "device", needed: true },
      { name: "bench", label: "How it is reached on the bench", as: "device", needed: true },
      { name: "to", label: "Release", hint: "empty: that of the newest backup" },
      { name: "sameKey", label: "It was given the key under which the device writes its secrets", as: "check" },
    ],
  },
  ship: {
    about: "It travels to its site.",
    fields: [{ name: "parcel", label: "Parcel", hint: "a number to follow it by" }],
  },
  swap: {
    about: "Hands at the site move the cables. Then the device is this unit.",
    fields: [
      { name: "address", label: "Address", hint: "host:port at which it is found; empty: where the device is now" },
    ],
  },
  arrive: {
    about: "It still holds what it did until it is wiped.",
    fields: [{ name: "place", label: "Place", hint: "where it lies" }],
  },
  wiped: {
    about: "It is in its factory state on the bench. What it holds is compared with what it held in service.",
    fields: [
      { name: "bench", label: "How it is reached on the bench", as: "device", needed: true },
      {
        name: "same",
        label: "What such a unit says in its factory state as well",
        as: "lines",
        hint: "as it was named, a line each",
      },
    ],
  },
  retire: { about: "It is taken out of the stock for good.", fields: [{ name: "reason", label: "Why", needed: true }] },
};

function ActForm({ what, of, onClose }: { what: Act; of: Spare; onClose: () => void }) {
  const [v, setV] = useState<Record<string, string>>({});
  const all = useQueryClient();
  const go = useNavigate();
  const { about, fields } = asks[what];
  const request = useMutation({
    mutationFn: () => carry(what, of.serial, v),
    onSuccess: (change) => {
      void all.invalidateQueries({ queryKey: ["spares"] });
      onClose();
      if (change) go(`/changes/${change}`);
    },
  });
  return (
    <Form
      title={`${named[what]}: ${of.model} ${of.serial}`}
      action={named[what]}
      id="spare-act"
      kind={what === "retire" ? "risk" : undefined}
      ready={fields.every((f) => !f.needed || !!v[f.name]?.trim())}
      request={request}
      onSubmit={() => request.mutate()}
      onClose={onClose}
    >
      <p>{about}</p>
      {fields.map((f) => (
        <Input key={f.name} of={f} value={v[f.name] ?? ""} onChange={(text) => setV({ ...v, [f.name]: text })} />
      ))}
    </Form>
  );
}

function Input({ of, value, onChange }: { of: Asked; value: string; onChange: (text: string) => void }) {
  switch (of.as) {
    case "device":
      return (
        <div id={`spare-${of.name}`}>
          <ChooseDevice label={of.label} value={value} onChange={onChange} />
        </div>
      );
    case "check":
      return (
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            name={of.name}
            checked={!!value}
            onChange={(e) => onChange(e.target.checked ? "yes" : "")}
          />
          {of.label}
        </label>
      );
    case "lines":
      return (
        <label className="block">
          <span className="mb-1 block text-xs font-semibold">{of.label}</span>
          <textarea
            name={of.name}
            rows={3}
            value={value}
            onChange={(e) => onChange(e.target.value)}
            className="w-full rounded-sm border border-slate-400 bg-transparent px-2 py-1.5 font-mono text-xs dark:border-slate-600"
          />
          <Muted small>{of.hint}</Muted>
        </label>
      );
    default:
      return (
        <Field
          label={of.label}
          hint={of.hint}
          name={of.name}
          value={value}
          onChange={(e) => onChange(e.target.value)}
        />
      );
  }
}

/** Carries an act out; the number of the change that it drafted, where it drafted one. */
async function carry(what: Act, serial: string, v: Record<string, string>): Promise<number | undefined> {
  const path = { serial };
  const given = (name: string) => v[name]?.trim() || undefined;
  const once = { path, header: { "Idempotency-Key": newKey() } };
  switch (what) {
    case "prepare":
      return (
        await ask(
          api.POST("/spares/{serial}/prepare", {
            params: once,
            body: { for: v.for, bench: v.bench, to: given("to"), sameKey: !!v.sameKey || undefined },
          }),
        )
      ).id;
    case "swap":
      return (await ask(api.POST("/spares/{serial}/swap", { params: once, body: { address: given("address") } }))).id;
    case "ship":
      await ask(api.POST("/spares/{serial}/ship", { params: { path }, body: { parcel: given("parcel") } }));
      return;
    case "arrive":
      await ask(api.POST("/spares/{serial}/arrive", { params: { path }, body: { place: given("place") } }));
      return;
    case "wiped":
      await ask(
        api.POST("/spares/{serial}/wiped", {
          params: { path },
          body: { bench: v.bench, same: v.same ? linesOf(v.same) : undefined },
        }),
      );
      return;
    case "retire":
      await ask(api.POST("/spares/{serial}/retire", { params: { path }, body: { reason: v.reason } }));
  }
}

const nothing = { serial: "", model: "", version: "", licences: "", place: "", bench: "" };

function Add() {
  const [v, setV] = useState(nothing);
  const all = useQueryClient();
  const add = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/spares", {
          body: {
            serial: v.serial.trim(),
            model: v.model.trim(),
            version: v.version.trim() || undefined,
            place: v.place.trim() || undefined,
            bench: v.bench.trim() || undefined,
            licences: v.licences.trim() ? v.licences.split(",").map((l) => l.trim()) : undefined,
          },
        }),
      ),
    onSuccess: () => {
      setV(nothing);
      void all.invalidateQueries({ queryKey: ["spares"] });
    },
  });
  const field = (key: keyof typeof v, label: string, hint: string) => (
    <Field
      label={label}
      hint={hint}
      name={`spare-${key}`}
      value={v[key]}
      onChange={(e) => setV({ ...v, [key]: e.target.value })}
    />
  );
  return (
    <form
      className="mt-4 border-t border-line pt-3 dark:border-nightline"
      onSubmit={(e: FormEvent) => {
        e.preventDefault();
        add.mutate();
      }}
    >
      <h2 className="font-semibold">Put a unit in stock</h2>
      <div className="mt-2 grid gap-3 md:grid-cols-3 xl:grid-cols-6">
        {field("serial", "Serial", "on its plate")}
        {field("model", "Model", "as the catalogue names it")}
        {field("version", "Release", "that it has; empty: not known")}
        {field("licences", "Licences", "classes, with commas")}
        {field("place", "Place", "where it lies")}
        {field("bench", "On the bench", "device by which it is reached there; empty: none yet")}
      </div>
      <Trouble error={add.error} />
      <div className="mt-3">
        <Button id="add-spare" type="submit" disabled={!v.serial.trim() || !v.model.trim() || add.isPending}>
          Put it in stock
        </Button>
      </div>
    </form>
  );
}
