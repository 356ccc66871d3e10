// Security advisories: what they affect, and the way out.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "react-router-dom";
import { api, ask } from "../shared/api";
import { Upload } from "../images/images";
import { Badge, Button, Card, Trouble, Muted } from "../shared/ui";

export function AdvisoriesPage() {
  const id = useParams().id;
  const queries = useQueryClient();
  const all = useQuery({ queryKey: ["advisories"], queryFn: () => ask(api.GET("/advisories")) });
  const load = useMutation({
    mutationFn: async (file: File) => {
      let doc;
      try {
        doc = JSON.parse(await file.text());
      } catch (e) {
        throw new Error(`${file.name} is not JSON: ${e instanceof Error ? e.message : e}`);
      }
      return ask(api.POST("/advisories", { body: doc }));
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ["advisories"] }),
  });
  const forget = useMutation({
    mutationFn: (name: string) => ask(api.DELETE("/advisories/{name}", { params: { path: { name } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["advisories"] }),
  });
  return (
    <>
      <h1 className="text-lg font-bold">Advisories</h1>
      <Card
        title="Imported"
        aside={
          <Upload name="Import a CSAF document" accept=".json" busy={load.isPending} onFile={(f) => load.mutate(f)} />
        }
      >
        <Trouble error={load.error ?? forget.error ?? all.error} />
        <table className="w-full">
          <thead>
            <tr>
              <th>Advisory</th>
              <th>Title</th>
              <th>Severity</th>
              <th>Families</th>
              <th>Released</th>
              <th>Devices affected</th>
              <th>
                <span className="sr-only">Acts</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {all.data?.items.map((a) => (
              <tr key={a.id} className="border-t border-line dark:border-nightline">
                <td className="font-semibold">
                  <Link className="underline" to={`/advisories/${a.id}`}>
                    {a.id}
                  </Link>
                </td>
                <td>{a.title}</td>
                <td>{a.severity}</td>
                <td>{a.families.join(", ")}</td>
                <td>{a.released.slice(0, 10)}</td>
                <td>
                  <Badge state={a.affected > 0 ? "failed" : "done"}>{a.affected === 0 ? "none" : a.affected}</Badge>
                </td>
                <td>
                  {a.id !== id && (
                    <Button className="!py-0.5" aria-label={`Forget ${a.id}`} onClick={() => forget.mutate(a.id)}>
                      Forget
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {all.data?.unusable?.map((u) => (
          <p key={u.id} className="mt-2">
            <Badge state="failed">cannot be used</Badge> <b>{u.id}</b>: {u.why}{" "}
            <Button className="!py-0.5" aria-label={`Forget ${u.id}`} onClick={() => forget.mutate(u.id)}>
              Forget
            </Button>
          </p>
        ))}
        {all.data?.items.length === 0 && (
          <p>None yet. Import a document in the Common Security Advisory Framework, version 2.0.</p>
        )}
      </Card>
      {id && <Detail id={id} />}
    </>
  );
}

function Detail({ id }: { id: string }) {
  const one = useQuery({
    queryKey: ["advisories", id],
    queryFn: () => ask(api.GET("/advisories/{name}", { params: { path: { name: id } } })),
  });
  if (!one.data) return <Trouble error={one.error} />;
  const { advisory: a, releases, says, devices } = one.data;
  const statuses = [...new Set(releases.map((r) => r.status))];
  return (
    <Card
      title={`${a.id}: ${a.title}`}
      aside={
        <Muted small>
          {a.publisher}, revision {a.revision}
          {a.cves.length > 0 && `, ${a.cves.join(", ")}`}
        </Muted>
      }
    >
      <p>{a.summary}</p>
      {says.length > 0 && (
        <ul className="mt-2 list-disc pl-5">
          {says.map((s) => (
            <li key={s}>{s}</li>
          ))}
        </ul>
      )}
      <dl className="mt-3 space-y-1">
        {statuses.map((s) => (
          <div key={s} className="flex gap-3">
            <dt className="w-36 shrink-0">
              <Badge state={s === "affected" ? "failed" : s === "fixed" || s === "not affected" ? "done" : "pending"}>
                {s}
              </Badge>
            </dt>
            <dd className="font-mono">
              {releases
                .filter((r) => r.status === s)
                .map((r) => r.version)
                .join("  ")}
            </dd>
          </div>
        ))}
      </dl>
      <table className="mt-4 w-full">
        <thead>
          <tr>
            <th>Device</th>
            <th>Model</th>
            <th>Runs</th>
            <th>Status</th>
            <th>Way out</th>
          </tr>
        </thead>
        <tbody>
          {devices.map((d) => (
            <tr key={d.device} className="border-t border-line dark:border-nightline">
              <td className="font-semibold">
                <Link className="underline" to={`/devices/${d.device}`}>
                  {d.device}
                </Link>
              </td>
              <td>{d.model}</td>
              <td className="font-mono">{d.version}</td>
              <td>
                <Badge state={d.status === "affected" ? "failed" : "done"}>{d.status}</Badge>
              </td>
              <td>
                {d.stops ? <span className="font-mono">{[d.version, ...d.stops].join(" → ")}</span> : d.why}
                {d.remediation && (
                  <p className="whitespace-pre-line text-slate-600 dark:text-slate-400">{d.remediation}</p>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {devices.length === 0 && <p className="mt-3">No device of the fleet is one the advisory speaks about.</p>}
    </Card>
  );
}
