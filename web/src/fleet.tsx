import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useMemo, useState } from "react";
import { Link } from "react-router-dom";
import { api, ask, newKey, pages, type Device, type S } from "./api";
import { ReachFields } from "./device";
import { ago, mib } from "./format";
import { Badge, Button, Card, Ask, Field, Trouble, Waiting } from "./ui";

const shownAtOnce = 200;

export function FleetPage() {
  const fleet = useQuery({
    queryKey: ["devices"], refetchInterval: (q) => ((q.state.data?.length ?? 0) > 500 ? 30000 : 3000), // a big fleet is asked for less often
    queryFn: () => pages<Device>((cursor) => ask(api.GET("/devices", { params: { query: { cursor, limit: 500 } } }))),
  });
  const [text, setText] = useState("");
  const [limit, setLimit] = useState(shownAtOnce);
  const [adding, setAdding] = useState(false);
  const wanted = useDeferredValue(text.toLowerCase());
  const found = useMemo(
    () => (fleet.data ?? []).filter((d) => `${d.name} ${d.site} ${d.portrait?.model ?? ""} ${d.portrait?.version ?? ""}`.toLowerCase().includes(wanted)),
    [fleet.data, wanted],
  );
  if (fleet.isPending) return <Waiting />;
  return (
    <>
      <div className="flex flex-wrap items-end gap-3">
        <h1 className="text-lg font-bold">Fleet</h1>
        <span className="pb-0.5 text-slate-600 dark:text-slate-400">{found.length === fleet.data?.length ? `${found.length} devices` : `${found.length} of ${fleet.data?.length} devices`}</span>
        <input type="search" aria-label="Find devices" placeholder="Name, site, model or version" value={text} onChange={(e) => { setText(e.target.value); setLimit(shownAtOnce); }}
          className="ml-auto w-72 rounded-sm border border-slate-400 bg-white px-2 py-1.5 dark:border-slate-600 dark:bg-deck" />
        <Button onClick={() => setAdding(true)}>Add device</Button>
      </div>
      <Trouble error={fleet.error} />
      <Card>
        <table className="w-full">
          <thead><tr><th>Device</th><th>Site</th><th>Model</th><th>Runs</th><th>Stands</th><th>Storage free</th><th>As of</th><th>Change</th></tr></thead>
          <tbody>
            {found.slice(0, limit).map((d) => (
              <tr key={d.name} className="border-t border-line hover:bg-slate-50 dark:border-nightline dark:hover:bg-slate-800">
                <td className="font-semibold"><Link className="underline decoration-brass underline-offset-4" to={`/devices/${d.name}`}>{d.name}</Link></td>
                <td>{d.site}</td>
                {d.portrait ? (
                  <>
                    <td>{d.portrait.maker} {d.portrait.model}</td>
                    <td className="font-mono">{d.portrait.version}</td>
                    <td title={d.standing?.text}><Badge state={d.standing?.state ?? "not known"}>{(d.standing?.state ?? "not known").replace("-", " ")}</Badge></td>
                    <td>{d.portrait.storageFree !== undefined ? mib(d.portrait.storageFree) : "not known"}</td>
                    <td className="text-slate-600 dark:text-slate-400">{ago(d.standing?.at ?? d.portrait.takenAt)}{d.standing?.state === "no-answer" && `, seen ${ago(d.portrait.takenAt)}`}</td>
                  </>
                ) : <td colSpan={5} className="text-slate-600 dark:text-slate-400">{d.standing?.text ?? "nobody has looked at it yet"}</td>}
                <td>{d.openChange && <Link to={`/changes/${d.openChange}`}><Badge state="running">change {d.openChange}</Badge></Link>}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {found.length === 0 && <p className="p-4">No device fits.</p>}
        {found.length > limit && <Button className="mt-3" onClick={() => setLimit(limit + shownAtOnce)}>Show {Math.min(shownAtOnce, found.length - limit)} more</Button>}
      </Card>
      <AddDevice open={adding} onClose={() => setAdding(false)} />
    </>
  );
}

function AddDevice({ open, onClose }: { open: boolean; onClose: () => void }) {
  const queries = useQueryClient();
  const empty = { name: "", site: "", address: "", dialect: "tarnholm", user: "", password: "", privilegedPassword: "", hostKey: "" };
  const [d, setD] = useState(empty);
  const [transfer, setTransfer] = useState<S["Transfer"]>("sftp");
  const [reach, setReach] = useState<S["Reach"]>({});
  const add = useMutation({
    mutationFn: () => ask(api.POST("/devices", { params: { header: { "Idempotency-Key": newKey() } }, body: { ...d, transfer, reach } })),
    onSuccess: () => { queries.invalidateQueries({ queryKey: ["devices"] }); setD(empty); setReach({}); onClose(); },
  });
  const field = (key: keyof typeof empty, label: string, hint?: string, type = "text") => (
    <Field label={label} hint={hint} type={type} name={key} autoComplete="off" value={d[key]} onChange={(e) => setD({ ...d, [key]: e.target.value })} />
  );
  return (
    <Ask open={open} onClose={onClose} title="Add a device">
      <form className="space-y-3" onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
        <div className="grid grid-cols-2 gap-3">
          {field("name", "Name")}{field("site", "Site")}
          {field("address", "Address", "host:port of its SSH")}{field("dialect", "Dialect")}
        </div>
        <div className="grid grid-cols-3 gap-3">
          {field("user", "User")}{field("password", "Password", undefined, "password")}{field("privilegedPassword", "Second password", undefined, "password")}
        </div>
        <ReachFields reach={reach} transfer={transfer} onReach={setReach} onTransfer={setTransfer} />
        {field("hostKey", "Host key", "when it is known, in authorized-keys form; otherwise the first contact pins it")}
        <Trouble error={add.error} />
        <div className="flex justify-end gap-2"><Button onClick={onClose}>Cancel</Button><Button kind="main" type="submit" disabled={add.isPending}>Add</Button></div>
      </form>
    </Ask>
  );
}
