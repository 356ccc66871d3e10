import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useNavigate, useParams } from "react-router-dom";
import { api, ask, newKey, type Device, type Release, type S } from "./api";
import { ago, mib, time } from "./format";
import { ActsDialog } from "./acts";
import { ConsoleLine, Losses } from "./carrying";
import { HopList, NoPath, PathLine } from "./pathline";
import { Pick } from "./paths";
import { ReadingsCard } from "./readings";
import { Ask, Badge, Bar, Button, Card, Field, Mark, Trouble, Waiting } from "./ui";

export function DevicePage() {
  const name = useParams().name!;
  const queries = useQueryClient();
  const path = { params: { path: { name } } };
  const device = useQuery({ queryKey: ["device", name], queryFn: () => ask(api.GET("/devices/{name}", path)), refetchInterval: 3000 });
  const refresh = useMutation({
    mutationFn: () => ask(api.POST("/devices/{name}/refresh", path)),
    onSuccess: (d) => { queries.setQueryData(["device", name], d); queries.invalidateQueries({ queryKey: ["path", name] }); },
  });
  const [asking, setAsking] = useState<"credentials" | "key" | "settings" | "back" | "acts" | null>(null);
  if (device.isPending) return <Waiting />;
  if (!device.data) return <Trouble error={device.error} />;
  const d = device.data;
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-bold">{d.name}</h1>
        <span className="text-slate-600 dark:text-slate-400">{d.site}</span>
        {d.openChange && <Link to={`/changes/${d.openChange}`}><Badge state="running">change {d.openChange} is open</Badge></Link>}
        <span className="ml-auto" />
        <Link className="underline" to={`/devices/${d.name}/history`}>History and backups</Link>
        {d.portrait?.slots.some((x) => !x.running && x.version) && <Button id="back" onClick={() => setAsking("back")}>Previous installation</Button>}
        {d.portrait && <Button id="single-steps" onClick={() => setAsking("acts")}>Single steps</Button>}
        <Button onClick={() => setAsking("credentials")}>Replace credentials</Button>
        <Button onClick={() => setAsking("key")}>Host key</Button>
        <Button id="settings" onClick={() => setAsking("settings")}>Settings</Button>
        <Button kind="main" disabled={refresh.isPending} onClick={() => refresh.mutate()}>{refresh.isPending ? "Looking ..." : "Refresh"}</Button>
      </div>
      <Trouble error={refresh.error} />
      <Portrait d={d} />
      <WayBack name={name} />
      {d.portrait && <PathFinder device={d} version={d.portrait.version} />}
      {d.portrait && <ReadingsCard name={name} />}
      {d.reach?.console && <Card title="Console line" aside={<span className="font-mono text-xs">{d.reach.console}</span>}><ConsoleLine device={name} live /></Card>}
      <BackDialog d={d} open={asking === "back"} onClose={() => setAsking(null)} />
      <ActsDialog d={d} open={asking === "acts"} onClose={() => setAsking(null)} />
      <CredentialsDialog name={name} open={asking === "credentials"} onClose={() => setAsking(null)} />
      <KeyDialog name={name} pinned={d.hostKey} open={asking === "key"} onClose={() => setAsking(null)} />
      <SettingsDialog key={JSON.stringify([d.groups, d.web, d.reach, d.transfer])} d={d} open={asking === "settings"} onClose={() => setAsking(null)} />
    </>
  );
}

/** Says when the version that runs now could not be installed again. */
function WayBack({ name }: { name: string }) {
  const keep = useQuery({ queryKey: ["retention"], queryFn: () => ask(api.GET("/images/retention")) });
  const found = keep.data?.devices.find((x) => x.device === name);
  return found ? <p role="status" className="flex items-center gap-2"><Mark state="pending" /> {found.text}.</p> : null;
}

function Fact({ name, children }: { name: string; children: ReactNode }) {
  return <div><dt className="text-xs text-slate-600 dark:text-slate-400">{name}</dt><dd className="font-medium">{children}</dd></div>;
}

/** How the device stands, how old that is, and who knows it. */
function Stands({ d }: { d: Device }) {
  const s = d.standing;
  if (!s) return null;
  return (
    <p id="stands" role="status" className="mb-3 flex items-center gap-2">
      <Badge state={s.state}>{s.state.replace("-", " ")}</Badge>
      <span>{s.change ? <Link className="underline" to={`/changes/${s.change}`}>{s.text}</Link> : s.text}{s.at && <span className="text-slate-600 dark:text-slate-400">, {s.source === "change" ? "since" : "as of"} {time(s.at)}</span>}</span>
    </p>
  );
}

function Portrait({ d }: { d: Device }) {
  const p = d.portrait;
  if (!p) return <Card title="Portrait"><Stands d={d} /><p>Nobody has looked at this device yet. Refresh asks it what it is.</p></Card>;
  return (
    <Card title="Portrait" aside={<span className="text-xs text-slate-600 dark:text-slate-400">seen {ago(p.takenAt)}</span>}>
      <Stands d={d} />
      <div className="grid gap-6 md:grid-cols-3">
        <dl className="grid grid-cols-2 gap-3">
          <Fact name="Model">{p.maker} {p.model}</Fact>
          <Fact name="Serial"><span className="font-mono">{p.serial}</span></Fact>
          <Fact name="Runs"><span className="font-mono text-base">{p.version}</span></Fact>
          <Fact name="Services"><Badge state={p.servicesReady === undefined ? "not known" : p.servicesReady ? "ready" : "starting"} /></Fact>
        </dl>
        <div className="space-y-2">
          {p.slots.map((s) => (
            <div key={s.name} className={`flex items-center gap-3 rounded-sm border px-3 py-1.5 ${s.running ? "border-2 border-brass dark:border-brasslight" : "border-line dark:border-nightline"}`}>
              <b>Slot {s.name}</b><span className="font-mono">{s.version || "empty"}</span>
              <span className="ml-auto flex gap-1">{s.running && <Badge state="running">running</Badge>}{s.next && <Badge state="waiting">next start</Badge>}{s.broken && <Badge state="broken">broken: {s.state}</Badge>}</span>
            </div>
          ))}
          {p.unsaved && <Badge state="degraded">running configuration is not saved</Badge>}
          {p.unsaved === undefined && <p className="text-slate-600 dark:text-slate-400">Whether anything is unsaved is not known; the device does not say.</p>}
          {p.notUnderstood?.map((x) => <p key={x} className="flex gap-2"><Mark state="not-proven" /> Not understood: {x}</p>)}
          <dl className="space-y-2">
            {p.components && <Fact name="Firmware beside it">{p.components.map((x) => <span key={x.name} className="mr-3 whitespace-nowrap">{x.name} <span className="font-mono">{x.version}</span></span>)}</Fact>}
            {p.parts && <Fact name="Parts">{p.parts.every((x) => x.good) ? <>all {p.parts.length} are well</> : p.parts.filter((x) => !x.good).map((x) => <span key={x.name} className="mr-3 inline-flex items-center gap-1"><Mark state="held" /> {x.name}: {x.state}{x.good === undefined && ", not known whether that is well"}</span>)}</Fact>}
            {p.variables && <Fact name="Boot">{p.variables.map((x) => <span key={x.name} className="mr-3">{x.name}: <span className="font-mono">{x.value || "clear"}</span></span>)}</Fact>}
            {p.licences && <Fact name="Licences">{p.licences.join(", ") || "none"}</Fact>}
          </dl>
        </div>
        <dl className="space-y-3">
          {p.storageFree !== undefined && p.storageTotal ? <Fact name={`Storage: ${mib(p.storageFree)} of ${mib(p.storageTotal)} free`}><Bar fraction={1 - p.storageFree / p.storageTotal} label="storage in use" /></Fact> : <Fact name="Storage">not known; the device does not say</Fact>}
          {p.stores?.map((x) => <Fact key={x.name} name={`${x.name}: ${mib(x.free)} of ${mib(x.total)} free`}><Bar fraction={1 - x.free / x.total} label={`${x.name} in use`} /></Fact>)}
          <Fact name="Address"><span className="font-mono">{d.address}</span>, {d.dialect}, images by {d.transfer}</Fact>
          {d.groups.length > 0 && <Fact name="Groups">{d.groups.join(", ")}</Fact>}
          {d.reach?.via && <Fact name="Reached through"><Link className="underline" to={`/devices/${d.reach.via}`}>{d.reach.via}</Link>{d.reach.enter && <>, by <span className="font-mono">{d.reach.enter}</span></>}</Fact>}
          {d.web && <Fact name="Web side"><span className="font-mono">{d.web}</span></Fact>}
          {d.hostKey && <Fact name="Host key"><span className="font-mono text-xs break-all">{d.hostKey}</span></Fact>}
        </dl>
      </div>
    </Card>
  );
}

function PathFinder({ device, version }: { device: Device; version: string }) {
  const name = device.name;
  const go = useNavigate();
  const [to, setTo] = useState<Release | null>(null);
  const [reset, setReset] = useState(false);
  const [previews, setPreviews] = useState(false);
  const releases = useQuery({ queryKey: ["releases", name, device.portrait?.model], queryFn: () => ask(api.GET("/devices/{name}/releases", { params: { path: { name } } })) });
  const [licences, setLicences] = useState<S["NewLicence"][]>([]);
  const aim = to && { to: to.version, reset, previews };
  const path = useQuery({
    queryKey: ["path", name, version, aim, licences.map((l) => l.name)], enabled: !!aim,
    queryFn: () => ask(api.POST("/devices/{name}/path", { params: { path: { name } }, body: { ...aim!, withLicences: licences.map((l) => l.name) } })),
  });
  const [cleanUp, setCleanUp] = useState("");
  const [comesBackAt, setComesBackAt] = useState("");
  const [both, setBoth] = useState(false);
  const draft = useMutation({
    mutationFn: () => ask(api.POST("/changes", { params: { header: { "Idempotency-Key": newKey() } }, body: { device: name, ...aim!, cleanUp: cleanUp.split(",").map((f) => f.trim()).filter(Boolean), comesBackAt: comesBackAt.trim() || undefined, both: both || undefined, licences: licences.length ? licences : undefined } })),
    onSuccess: (c) => go(`/changes/${c.id}`),
  });
  return (
    <Card title="Where should it go?">
      <div className="flex flex-wrap items-center gap-4">
        <Listbox value={to} onChange={setTo}>
          <ListboxButton id="aim" className="flex w-64 items-center justify-between rounded-sm border border-slate-400 px-3 py-1.5 text-left dark:border-slate-600">
            {to ? <span className="font-mono">{to.version}</span> : "Choose a release"} <span aria-hidden>▾</span>
          </ListboxButton>
          <ListboxOptions anchor="bottom start" className="z-20 max-h-80 w-64 overflow-auto rounded-md border border-line bg-white p-1 shadow-lg dark:border-nightline dark:bg-deck">
            {(releases.data?.items ?? []).map((r) => (
              <ListboxOption key={r.version} value={r} disabled={r.version === version} className="flex items-center gap-2 rounded-sm px-2 py-1.5 data-disabled:opacity-50 data-focus:bg-slate-100 dark:data-focus:bg-slate-700">
                <span className="font-mono">{r.version}</span><Badge state={r.stage} />
                <span className="ml-auto text-xs text-slate-600 dark:text-slate-400">{r.version === version ? "runs now" : r.runs ? "" : "not for it"}</span>
              </ListboxOption>
            ))}
          </ListboxOptions>
        </Listbox>
        <label className="flex items-center gap-1.5"><input type="checkbox" checked={reset} onChange={(e) => setReset(e.target.checked)} /> the configuration may be reset</label>
        <label className="flex items-center gap-1.5"><input type="checkbox" checked={previews} onChange={(e) => setPreviews(e.target.checked)} /> previews may be used</label>
        <Link className="ml-auto underline" to={`/paths?model=${device.portrait?.model}&from=${version}`}>Explore on the lines</Link>
        {path.data?.found && path.data.hops.length > 0 && (
          <Button kind="main" id="draft" disabled={draft.isPending} onClick={() => draft.mutate()}>Draft a change</Button>
        )}
      </div>
      <div className="mt-4 space-y-4">
        {aim && !(path.data?.found && path.data.hops.length === 0) && (
          <details className="text-slate-600 dark:text-slate-400">
            <summary id="more" className="cursor-pointer">More about the change</summary>
            <div className="mt-2 grid gap-3 md:grid-cols-2">
              <Field label="Files to remove from the device first" name="clean-up" hint="with commas; only these are removed, and none that the change sends" value={cleanUp} onChange={(e) => setCleanUp(e.target.value)} />
              <Field label="It comes back at another address" name="comes-back-at" hint="host:port; empty: where it is now. Its host key has to be the known one" value={comesBackAt} onChange={(e) => setComesBackAt(e.target.value)} />
              <Licences given={licences} onChange={setLicences} />
              {(device.portrait?.slots.length ?? 0) > 1 && <label className="flex items-start gap-1.5"><input type="checkbox" name="both" className="mt-1" checked={both} onChange={(e) => setBoth(e.target.checked)} /><span>install it into the other slot, too, once the readings are as expected. <b>That overwrites the previous installation: nothing leads back then.</b></span></label>}
            </div>
          </details>
        )}
        <Trouble error={draft.error ?? path.error ?? releases.error} />
        {path.data && (!path.data.found ? <NoPath path={path.data} /> : path.data.hops.length === 0 ? <p>It runs {path.data.to} already.</p> : (
          <>
            <PathLine key={path.data.to} path={path.data} />
            <HopList path={path.data} />
            {path.data.notes.map((n, i) => <p key={i} className="text-slate-600 dark:text-slate-400">{n}</p>)}
          </>
        ))}
      </div>
    </Card>
  );
}

/** Licences that the device is given first. Their keys are typed in, and never shown. */
function Licences({ given, onChange }: { given: S["NewLicence"][]; onChange: (l: S["NewLicence"][]) => void }) {
  const [name, setName] = useState("");
  const [key, setKey] = useState("");
  const add = () => { onChange([...given.filter((l) => l.name !== name.trim()), { name: name.trim(), key: key.trim() }]); setName(""); setKey(""); };
  return (
    <form id="licences" onSubmit={(e) => { e.preventDefault(); add(); }}>
      <div className="flex items-end gap-2">
        <Field label="Licence it is given first" name="licence" autoComplete="off" value={name} onChange={(e) => setName(e.target.value)} />
        <Field label="Its key" name="licence-key" type="password" autoComplete="off" value={key} onChange={(e) => setKey(e.target.value)} />
        <Button id="add-licence" type="submit" disabled={!name.trim() || !key.trim()}>Add</Button>
      </div>
      <ul className="mt-1 space-y-1">{given.map((l) => <li key={l.name} className="flex items-center gap-2"><span className="font-mono">{l.name}</span><Button aria-label={`Take licence ${l.name} out`} onClick={() => onChange(given.filter((g) => g !== l))}>Take out</Button></li>)}</ul>
    </form>
  );
}

function BackDialog({ d, open, onClose }: { d: Device; open: boolean; onClose: () => void }) {
  const go = useNavigate();
  const [carry, setCarry] = useState(false);
  const draft = useMutation({
    mutationFn: () => ask(api.POST("/changes", { params: { header: { "Idempotency-Key": newKey() } }, body: { device: d.name, to: "previous", back: true, carry: carry || undefined } })),
    onSuccess: (c) => go(`/changes/${c.id}`),
  });
  return (
    <Ask open={open} onClose={onClose} title={`Start the previous installation of ${d.name} again`}>
      <p>This is another installation of the firmware with the configuration that was saved under it. It is not the same as putting back a backup of the configuration.</p>
      {open && <Losses what="device" name={d.name} carry={carry} />}
      <label className="flex items-center gap-2"><input type="checkbox" name="carry" checked={carry} onChange={(e) => setCarry(e.target.checked)} /> carry the configuration of now across: it is converted and put onto the previous installation</label>
      <Trouble error={draft.error} />
      <div className="flex justify-end gap-2"><Button onClick={onClose}>Not now</Button><Button id="draft-back" kind="main" disabled={draft.isPending} onClick={() => draft.mutate()}>Draft a change</Button></div>
    </Ask>
  );
}

function CredentialsDialog({ name, open, onClose }: { name: string; open: boolean; onClose: () => void }) {
  const empty = { user: "", password: "", privilegedPassword: "" };
  const [v, setV] = useState(empty);
  const put = useMutation({
    mutationFn: () => ask(api.PUT("/devices/{name}/credentials", { params: { path: { name } }, body: v })),
    onSuccess: () => { setV(empty); onClose(); },
  });
  const field = (key: keyof typeof empty, label: string, type: string) => <Field label={label} type={type} autoComplete="off" value={v[key]} onChange={(e) => setV({ ...v, [key]: e.target.value })} />;
  return (
    <Ask open={open} onClose={onClose} title={`Replace the credentials of ${name}`}>
      <form className="space-y-3" onSubmit={(e) => { e.preventDefault(); put.mutate(); }}>
        <p>They are encrypted at once and never shown again.</p>
        {field("user", "User", "text")}{field("password", "Password", "password")}{field("privilegedPassword", "Password of the privileged level", "password")}
        <Trouble error={put.error} />
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button kind="main" type="submit" disabled={put.isPending}>Replace</Button></div>
      </form>
    </Ask>
  );
}

function KeyDialog({ name, pinned, open, onClose }: { name: string; pinned?: string; open: boolean; onClose: () => void }) {
  const queries = useQueryClient();
  const [hostKey, setHostKey] = useState("");
  const done = () => { setHostKey(""); queries.invalidateQueries({ queryKey: ["device", name] }); onClose(); };
  const forget = useMutation({ mutationFn: () => ask(api.DELETE("/devices/{name}/host-key", { params: { path: { name } } })), onSuccess: done });
  const pin = useMutation({ mutationFn: () => ask(api.PUT("/devices/{name}/host-key", { params: { path: { name } }, body: { hostKey } })), onSuccess: done });
  return (
    <Ask open={open} onClose={onClose} title={`The host key of ${name}`}>
      <p>{pinned ? "Another key than the pinned one is refused. Change it only when the device was replaced or reinstalled." : "The next contact pins the key it finds, unless it is given here."}</p>
      <Field label="Known key, in authorized-keys form" name="host-key" value={hostKey} onChange={(e) => setHostKey(e.target.value)} />
      <Trouble error={forget.error ?? pin.error} />
      <div className="flex justify-end gap-2"><Button onClick={onClose}>Leave it</Button>{pinned && <Button kind="risk" disabled={forget.isPending} onClick={() => forget.mutate()}>Forget it</Button>}<Button kind="main" disabled={!hostKey || pin.isPending} onClick={() => pin.mutate()}>Pin this key</Button></div>
    </Ask>
  );
}

/** How a device is reached where its address is not enough, and how images get onto it. */
export function ReachFields({ reach, transfer, onReach, onTransfer }: { reach: S["Reach"]; transfer: S["Transfer"]; onReach: (r: S["Reach"]) => void; onTransfer: (t: S["Transfer"]) => void }) {
  const field = (key: "console" | "via" | "enter", label: string, hint: string) => <Field label={label} hint={hint} name={key} value={reach[key] ?? ""} onChange={(e) => onReach({ ...reach, [key]: e.target.value || undefined })} />;
  return (
    <>
      <Pick id="transfer" label="Images" value={transfer} onChange={(v) => onTransfer(v as S["Transfer"])}>
        <option value="sftp">are pushed over SFTP</option><option value="http">are fetched by the device over HTTP</option><option value="pull-sftp">are fetched by the device over SFTP</option><option value="ftp">are fetched by the device over FTP</option><option value="tftp">are fetched by the device over TFTP</option>
      </Pick>
      <div className="grid grid-cols-2 gap-3">{field("via", "Through", "device that is signed in to first")}{field("enter", "Command there", "opens a session into a module; empty: the connection is passed on")}</div>
      {field("console", "Console line", "host:port at a console server")}
      <label className="flex items-center gap-2"><input type="checkbox" name="only" checked={!!reach.only} onChange={(e) => onReach({ ...reach, only: e.target.checked || undefined })} /> The console line is the only way</label>
    </>
  );
}

function SettingsDialog({ d, open, onClose }: { d: Device; open: boolean; onClose: () => void }) {
  const queries = useQueryClient();
  const [groups, setGroups] = useState(d.groups.join(", "));
  const [web, setWeb] = useState(d.web ?? "");
  const [reach, setReach] = useState(d.reach ?? {});
  const [transfer, setTransfer] = useState(d.transfer);
  const set = useMutation({
    mutationFn: () => ask(api.PATCH("/devices/{name}", { params: { path: { name: d.name } }, body: { groups: groups.split(",").map((g) => g.trim()).filter(Boolean), web, reach, transfer } })),
    onSuccess: (x) => { queries.setQueryData(["device", d.name], x); onClose(); },
  });
  return (
    <Ask open={open} onClose={onClose} title={`Settings of ${d.name}`}>
      <form className="space-y-3" onSubmit={(e) => { e.preventDefault(); set.mutate(); }}>
        <Field label="Groups" hint="with commas; keys and schedules can be for a group" name="groups" value={groups} onChange={(e) => setGroups(e.target.value)} />
        <Field label="Web side" hint="URL, where parts of its backup are fetched over HTTP" name="web" value={web} onChange={(e) => setWeb(e.target.value.trim())} />
        <ReachFields reach={reach} transfer={transfer} onReach={setReach} onTransfer={setTransfer} />
        <Trouble error={set.error} />
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button id="write-settings" kind="main" type="submit" disabled={set.isPending}>Write</Button></div>
      </form>
    </Ask>
  );
}
