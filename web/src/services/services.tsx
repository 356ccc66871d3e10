// Services of a gateway: where each stands, and what putting some of them onto another gateway, or taking them off, would do.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router-dom";
import { Differences } from "../configurations/differences";
import { api, ask, newKey, type S } from "../shared/api";
import { ChooseDevice } from "../shared/choose";
import { ago } from "../shared/format";
import { Badge, Button, Card, Field, Mark, Muted, Pick, Trouble, Waiting } from "../shared/ui";
import { changeOf, counts, standing, tone, wishOf, type Treat } from "./words";

type List = S["ServiceList"];
type Plan = S["ServicesPlan"];

export function ServicesPage() {
  const [params, setParams] = useSearchParams();
  const device = params.get("of") ?? "";
  const [picked, setPicked] = useState<string[]>([]);
  return (
    <>
      <h1 className="text-lg font-bold">Services</h1>
      <div className="grid items-start gap-4 lg:grid-cols-[6fr_7fr]">
        <Inventory
          device={device}
          onDevice={(of) => {
            setParams({ of });
            setPicked([]);
          }}
          picked={picked}
          onPick={setPicked}
        />
        {picked.length > 0 && <Move key={device} from={device} services={picked} />}
      </div>
    </>
  );
}

function Inventory({
  device,
  onDevice,
  picked,
  onPick,
}: {
  device: string;
  onDevice: (name: string) => void;
  picked: string[];
  onPick: (names: string[]) => void;
}) {
  const [by, setBy] = useState("naming");
  const [search, setSearch] = useState("");
  const [live, setLive] = useState(false);
  const q = useQuery({
    queryKey: ["services", device, by, search, live],
    enabled: !!device,
    retry: false,
    placeholderData: (old) => old,
    queryFn: () =>
      ask(
        api.GET("/devices/{name}/services", {
          params: { path: { name: device }, query: { by, search: search.trim() || undefined, live } },
        }),
      ),
  });
  return (
    <Card title="What a gateway serves">
      <div className="space-y-3">
        <ChooseDevice label="Gateway" value={device} onChange={onDevice} />
        <div className="grid gap-3 sm:grid-cols-2">
          <Pick label="Grouped by" value={by} onChange={setBy}>
            <option value="naming">how they are named</option>
            <option value="address">their address</option>
            <option value="policy">their policy</option>
            <option value="protocol">their protocol</option>
          </Pick>
          <Field
            label="Search"
            name="search"
            type="search"
            value={search}
            placeholder="what a service says somewhere"
            onChange={(e) => setSearch(e.target.value)}
          />
        </div>
        <label className="flex items-center gap-2">
          <input type="checkbox" name="live" checked={live} onChange={(e) => setLive(e.target.checked)} />
          Ask the device, and not its newest backup
        </label>
        <Trouble error={q.error} />
        {device && q.isPending && !q.error && <Waiting />}
        {q.data && !q.error && <Groups of={q.data} picked={picked} onPick={onPick} />}
      </div>
    </Card>
  );
}

function Groups({ of, picked, onPick }: { of: List; picked: string[]; onPick: (names: string[]) => void }) {
  const toggle = (names: string[]) =>
    onPick(
      names.every((n) => picked.includes(n))
        ? picked.filter((n) => !names.includes(n))
        : [...new Set([...picked, ...names])],
    );
  return (
    <>
      <p id="counts" role="status">
        {counts(of.counts)} <Muted small>{`by ${of.source}, ${ago(of.at)}`}</Muted>
      </p>
      <ul className="max-h-[60vh] space-y-3 overflow-y-auto">
        {of.groups.map((g) => {
          const there = g.services.filter((s) => s.stands !== "gone").map((s) => s.name);
          return (
            <li key={g.name} data-group={g.name}>
              <label className="flex items-center gap-2 font-semibold">
                <input
                  type="checkbox"
                  disabled={there.length === 0}
                  checked={there.length > 0 && there.every((n) => picked.includes(n))}
                  onChange={() => toggle(there)}
                />
                {g.name}
              </label>
              {g.services.map((s) => (
                <label key={s.name} data-service={s.name} className="ml-6 flex flex-wrap items-center gap-x-2">
                  <input
                    type="checkbox"
                    aria-label={s.name}
                    disabled={s.stands === "gone"}
                    checked={picked.includes(s.name)}
                    onChange={() => toggle([s.name])}
                  />
                  {s.name}
                  {s.stands !== "here" && <Badge state={tone[s.stands]}>{s.stands}</Badge>}
                  {s.up === false && <Badge state="failed">not up</Badge>}
                  {s.stands === "here" ? (
                    <Muted small>
                      {s.address || "no address"}, {s.policy || "no policy"}
                    </Muted>
                  ) : (
                    <Muted small>
                      {standing(s)},{" "}
                      <Link className="underline" to={`/changes/${changeOf(s)}`}>
                        change {changeOf(s)}
                      </Link>
                    </Muted>
                  )}
                </label>
              ))}
            </li>
          );
        })}
      </ul>
    </>
  );
}

const untreated: Treat = { rename: {}, use: {} };

function Move({ from, services }: { from: string; services: string[] }) {
  const go = useNavigate();
  const [to, setTo] = useState("");
  const [off, setOff] = useState(false);
  const [treat, setTreat] = useState(untreated);
  const [checks, setChecks] = useState("");
  const [more, setMore] = useState({ sameKey: false, unproven: false });
  const wish = wishOf(from, off ? "" : to, services, treat, checks, more);
  const ready = off || !!to;
  const preview = useQuery({
    queryKey: ["services plan", wish],
    enabled: ready,
    retry: false,
    placeholderData: (old) => old,
    queryFn: () => ask(api.POST("/services/preview", { body: wish })),
  });
  const header = () => ({ header: { "Idempotency-Key": newKey() } });
  const draft = useMutation({
    mutationFn: () => ask(api.POST("/services", { params: header(), body: wish })),
    onSuccess: (c) => go(`/changes/${c.id}`),
  });
  const convert = useMutation({
    mutationFn: () => ask(api.POST("/services/conversion", { params: header(), body: wish })),
    onSuccess: (c) => go(`/configurations/${c.id}`),
  });
  const plan = ready && !preview.error ? preview.data : undefined;
  return (
    <Card title={`${services.length === 1 ? services[0] : `${services.length} services`} of ${from}`}>
      <div className="space-y-4">
        <div className="flex flex-wrap gap-x-6 gap-y-1">
          <label className="flex items-center gap-2">
            <input type="radio" name="act" checked={!off} onChange={() => setOff(false)} /> Put onto another gateway
          </label>
          <label className="flex items-center gap-2">
            <input type="radio" name="act" checked={off} onChange={() => setOff(true)} /> Take off
          </label>
        </div>
        {!off && (
          <div id="move-to">
            <ChooseDevice label="The other gateway" value={to} onChange={setTo} />
          </div>
        )}
        <label className="block">
          <span className="mb-1 block text-xs font-semibold">What has to answer afterwards</span>
          <textarea
            name="checks"
            rows={2}
            defaultValue={checks}
            placeholder="https://203.0.113.100/alive or tcp:203.0.113.100:443, one a line"
            onBlur={(e) => setChecks(e.target.value)}
            className="w-full rounded-sm border border-slate-400 bg-transparent px-2 py-1.5 font-mono text-xs dark:border-slate-600"
          />
        </label>
        <Trouble error={preview.error ?? draft.error ?? convert.error} />
        {ready && preview.isPending && !preview.error && <Waiting />}
        {plan && (
          <>
            <Told of={plan} />
            {!off && <Needs of={plan} treat={treat} onTreat={setTreat} />}
            <Switches of={plan} off={off} more={more} onMore={setMore} />
            <div className="flex flex-wrap gap-2">
              <Button
                id="draft-services"
                kind="main"
                disabled={plan.refusals.length > 0 || draft.isPending}
                onClick={() => draft.mutate()}
              >
                {off ? "Draft taking them off" : "Draft the move"}
              </Button>
              {!off &&
                (plan.conversion ? (
                  <Link className="self-center underline" to={`/configurations/${plan.conversion}`}>
                    {plan.decisions > 0 ? "Decide" : "Edit"} in conversion {plan.conversion}
                  </Link>
                ) : (
                  <Button id="convert-services" disabled={convert.isPending} onClick={() => convert.mutate()}>
                    {plan.decisions > 0 ? "Start a conversion of them" : "Edit them first"}
                  </Button>
                ))}
            </div>
            <h3 className="font-semibold">What will be other on {plan.device}</h3>
            <Differences of={plan.differences} />
          </>
        )}
      </div>
    </Card>
  );
}

/** What stands in the way, what is to be known, and what remains. */
function Told({ of }: { of: Plan }) {
  const holder = of.from ?? of.device;
  return (
    <div className="space-y-2">
      {of.refusals.map((r) => (
        <p key={r} data-refusal className="flex gap-2">
          <Mark state="failed" /> <span>{r}</span>
        </p>
      ))}
      {of.notes.map((n) => (
        <p key={n} className="flex gap-2">
          <Mark state="degraded" /> <span>{n}</span>
        </p>
      ))}
      {of.sealed.length > 0 && <p>Secrets that go along sealed, never shown: {of.sealed.join(", ")}.</p>}
      <p id="remains">
        {holder} has {of.remains.length} {of.remains.length === 1 ? "service" : "services"} afterwards.
      </p>
    </div>
  );
}

/** The services and what they need, with the name that each gets, or what the other gateway has in its place. */
function Needs({ of, treat, onTreat }: { of: Plan; treat: Treat; onTreat: (t: Treat) => void }) {
  const rows = [
    ...of.services.map((s) => ({ kind: "service", name: s.name, shared: false, usable: false })),
    ...of.needs.map((n) => ({ kind: n.kind, name: n.name, shared: n.shared, usable: true })),
    ...Object.keys(treat.use)
      .filter((k) => !of.needs.some((n) => `${n.kind} ${n.name}` === k))
      .map((k) => ({ kind: k.split(" ")[0], name: k.slice(k.indexOf(" ") + 1), shared: false, usable: true })),
  ];
  const input = (label: string, key: string, where: keyof Treat) => (
    <input
      aria-label={label}
      defaultValue={treat[where][key] ?? ""}
      onBlur={(e) => onTreat({ ...treat, [where]: said(treat[where], key, e.target.value) })}
      onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
      className="w-full min-w-24 rounded-sm border border-slate-400 bg-transparent px-1 dark:border-slate-600"
    />
  );
  return (
    <div className="overflow-x-auto">
      <table className="w-full">
        <thead>
          <tr>
            <th>What goes along</th>
            <th>Name</th>
            <th>New name</th>
            <th>Use theirs</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((n) => (
            <tr key={`${n.kind} ${n.name}`} className="border-t border-line dark:border-nightline">
              <td>{n.kind}</td>
              <td className="font-mono text-xs">
                {n.name}
                {n.shared && <Muted small> others need it, too</Muted>}
              </td>
              <td>{input(`New name of ${n.kind} ${n.name}`, `${n.kind} ${n.name}`, "rename")}</td>
              <td>{n.usable && input(`Theirs for ${n.kind} ${n.name}`, `${n.kind} ${n.name}`, "use")}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** A table of names with one entry set, or taken out where it is empty. */
function said(m: Record<string, string>, key: string, value: string) {
  const out = { ...m, [key]: value.trim() };
  if (!out[key]) delete out[key];
  return out;
}

/** What a person says about it that nothing else tells. */
function Switches({
  of,
  off,
  more,
  onMore,
}: {
  of: Plan;
  off: boolean;
  more: { sameKey: boolean; unproven: boolean };
  onMore: (m: { sameKey: boolean; unproven: boolean }) => void;
}) {
  const check = (name: keyof typeof more, text: string) => (
    <label className="flex items-center gap-2">
      <input
        type="checkbox"
        name={name}
        checked={more[name]}
        onChange={(e) => onMore({ ...more, [name]: e.target.checked })}
      />
      {text}
    </label>
  );
  return (
    <>
      {!off && (of.ownKey.length > 0 || more.sameKey) && check("sameKey", "Both write secrets under the same key")}
      {off && check("unproven", "Nobody needs them: no change has to have put them elsewhere")}
    </>
  );
}
