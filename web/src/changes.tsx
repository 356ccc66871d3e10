import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router-dom";
import { api, ask, pages, type Change } from "./api";
import { time } from "./format";
import { Badge, Card, Trouble, Waiting } from "./ui";

export function ChangesPage() {
  const changes = useQuery({
    queryKey: ["changes"], refetchInterval: 3000,
    queryFn: () => pages<Change>((cursor) => ask(api.GET("/changes", { params: { query: { cursor, limit: 200 } } }))),
  });
  if (changes.isPending) return <Waiting />;
  return (
    <>
      <div className="flex items-center gap-3"><h1 className="text-lg font-bold">Changes</h1><Link id="rules" className="ml-auto underline" to="/changes/rules">Rules for changes</Link></div>
      <Trouble error={changes.error} />
      <Card>
        <table className="w-full">
          <thead><tr><th>Change</th><th>Device</th><th>From</th><th>To</th><th>By way of</th><th>State</th><th>Verdict</th><th>Drafted</th></tr></thead>
          <tbody>
            {changes.data?.map((c) => (
              <tr key={c.id} className="border-t border-line hover:bg-slate-50 dark:border-nightline dark:hover:bg-slate-800">
                <td className="font-semibold"><Link className="underline decoration-brass underline-offset-4" to={`/changes/${c.id}`}>{c.id}</Link></td>
                <td><Link to={`/devices/${c.device}`}>{c.device}</Link></td>
                <td className="font-mono">{c.from}</td><td className="font-mono">{c.to}</td>
                <td className="font-mono text-slate-600 dark:text-slate-400">{c.restore ? `backup ${c.restore.backup} goes back` : c.kind === "acts" ? "single steps" : c.kind === "back" ? "the previous installation" : c.path?.hops.slice(0, -1).map((h) => h.to).join(", ")}</td>
                <td><Badge state={c.state} /></td>
                <td>{c.verdict && <Badge state={c.verdict.verdict} />}</td>
                <td className="text-slate-600 dark:text-slate-400">{time(c.createdAt)} by {c.createdBy}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {changes.data?.length === 0 && <p>No change yet. Draft one on a device's page.</p>}
      </Card>
    </>
  );
}
