import { Link } from "react-router-dom";
import { api, ask, type Change } from "../shared/api";
import { time } from "../shared/format";
import { More, Table, useList, type Column } from "../shared/list";
import { byWayOf, purposeOf } from "./purpose";
import { Badge, Card, muted, subject, Trouble, Waiting } from "../shared/ui";

const columns: Column<Change>[] = [
  {
    head: "Change",
    cell: (c) => (
      <Link className={subject} to={`/changes/${c.id}`}>
        {c.id}
      </Link>
    ),
  },
  {
    head: "Device",
    cell: (c) => (c.members ? (c.ensemble ?? c.device) : <Link to={`/devices/${c.device}`}>{c.device}</Link>),
  },
  { head: "From", className: "font-mono", cell: (c) => c.from },
  { head: "To", className: "font-mono", cell: (c) => c.to },
  { head: "By way of", className: `font-mono ${muted}`, cell: (c) => byWayOf(purposeOf(c)) },
  { head: "State", cell: (c) => <Badge state={c.state} /> },
  { head: "Verdict", cell: (c) => c.verdict && <Badge state={c.verdict.verdict} /> },
  { head: "Drafted", className: muted, cell: (c) => `${time(c.createdAt)} by ${c.createdBy}` },
];

export function ChangesPage() {
  const { query, rows } = useList(
    ["changes"],
    (cursor) => ask(api.GET("/changes", { params: { query: { cursor, limit: 50 } } })),
    3000,
  );
  if (query.isPending) return <Waiting />;
  return (
    <>
      <div className="flex items-center gap-3">
        <h1 className="text-lg font-bold">Changes</h1>
        <Link id="rules" className="ml-auto underline" to="/changes/rules">
          Rules for changes
        </Link>
      </div>
      <Trouble error={query.error} />
      <Card>
        <Table columns={columns} rows={rows} id={(c) => c.id} empty="No change yet. Draft one on a device's page." />
        <More query={query} />
      </Card>
    </>
  );
}
