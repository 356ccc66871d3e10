import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, pages, type Backup } from "./api";
import { time } from "./format";
import { Differences } from "./configurations";
import { Button, Card, Trouble, Waiting } from "./ui";

export function BackupsPage() {
  const backups = useQuery({
    queryKey: ["backups"], refetchInterval: 5000,
    queryFn: () => pages<Backup>((cursor) => ask(api.GET("/backups", { params: { query: { cursor, limit: 500 } } }))),
  });
  const [picked, setPicked] = useState<number[]>([]);
  const [a, b] = [...picked].sort((x, y) => x - y);
  const text = useQuery({ queryKey: ["backup", a], enabled: picked.length === 1, queryFn: () => ask(api.GET("/backups/{id}/text", { params: { path: { id: a } }, parseAs: "text" })) });
  const diff = useQuery({ queryKey: ["compare", a, b], enabled: picked.length === 2, queryFn: () => ask(api.GET("/backups/{id}/compare/{other}", { params: { path: { id: a, other: b } } })) });
  const take = useMutation({ mutationFn: (device: string) => ask(api.POST("/backups", { body: { device } })), onSuccess: () => backups.refetch() });
  if (backups.isPending) return <Waiting />;
  const pick = (id: number) => setPicked((p) => (p.includes(id) ? p.filter((x) => x !== id) : [...p.slice(-1), id]));
  return (
    <>
      <div className="flex items-center gap-3">
        <h1 className="text-lg font-bold">Backups</h1>
        <span className="text-slate-600 dark:text-slate-400">Tick one to read it, two to compare them. Secrets are never shown.</span>
      </div>
      <Trouble error={backups.error ?? text.error ?? diff.error ?? take.error} />
      <div className="grid items-start gap-4 lg:grid-cols-[7fr_5fr]">
        <Card>
          <table className="w-full">
            <thead><tr><th /><th>Backup</th><th>Device</th><th>Version</th><th>Bytes</th><th>Taken</th><th /></tr></thead>
            <tbody>
              {backups.data?.map((x) => (
                <tr key={x.id} className="border-t border-line dark:border-nightline">
                  <td><input type="checkbox" aria-label={`Backup ${x.id}`} checked={picked.includes(x.id)} onChange={() => pick(x.id)} /></td>
                  <td className="font-semibold">{x.id}</td><td className="whitespace-nowrap">{x.device}</td><td className="font-mono">{x.version}</td><td>{x.size}</td>
                  <td className="whitespace-nowrap text-slate-600 dark:text-slate-400">{time(x.takenAt)}{x.change && <><br />before hop {x.hop} of change {x.change}</>}</td>
                  <td><Button disabled={take.isPending} title={`Back up ${x.device} now`} onClick={() => take.mutate(x.device)}>Again</Button></td>
                </tr>
              ))}
            </tbody>
          </table>
          {backups.data?.length === 0 && <p>No backup yet. Every change takes one before each hop.</p>}
        </Card>
        {picked.length === 1 && text.data && <Card title={`Backup ${a}`}><pre className="font-mono text-xs">{text.data}</pre></Card>}
        {picked.length === 2 && diff.data && <Card title={`From backup ${a} to backup ${b}`}><Differences of={diff.data.items} /></Card>}
      </div>
    </>
  );
}
