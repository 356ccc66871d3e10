// Begin a conversion, and see what it carries over.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router-dom";
import { api, ask, type S } from "../shared/api";
import { time } from "../shared/format";
import { More, Table, useList, type Column } from "../shared/list";
import { marks, Sign } from "../shared/marks";
import { Button, Card, Muted, muted, subject, Trouble, Waiting } from "../shared/ui";
import { unfilled, sourceOf, Source, Target } from "./source";

const columns: Column<S["ConversionSummary"]>[] = [
  {
    head: "Configuration",
    cell: (c) => (
      <Link className={subject} to={`/configurations/${c.id}`}>
        {c.name}
      </Link>
    ),
  },
  { head: "From", className: "font-mono text-xs", cell: (c) => c.from },
  { head: "To", className: "font-mono text-xs", cell: (c) => c.to },
  { head: "Begun", className: muted, cell: (c) => `${time(c.createdAt)}, ${c.createdBy}` },
];

export function Begin() {
  const go = useNavigate();
  const { query: list, rows } = useList(
    ["conversions"],
    (cursor) => ask(api.GET("/conversions", { params: { query: { cursor, limit: 50 } } })),
    15000,
  );
  const [filled, setFilled] = useState(unfilled);
  const source = sourceOf(filled);
  const [to, setTo] = useState("@");
  const from = source?.from ?? (filled.backup?.model && `${filled.backup.model}@${filled.backup.version}`);
  const [otherUnit, setOtherUnit] = useState(false);
  const ready = !!source && !to.startsWith("@") && !to.endsWith("@");
  const start = useMutation({
    mutationFn: (byHand: boolean) =>
      ask(api.POST("/conversions", { body: { source: source!, to, byHand, otherUnit: otherUnit || undefined } })),
    onSuccess: (c) => go(`/configurations/${c.id}`),
  });
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[5fr_7fr]">
      <Card title="Convert a configuration">
        <div className="space-y-4">
          <Source label="From" value={filled} onChange={setFilled} />
          <Target value={to} onChange={setTo} />
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              name="other-unit"
              checked={otherUnit}
              onChange={(e) => setOtherUnit(e.target.checked)}
            />
            It is for another unit, which cannot read secrets under a key of the first one
          </label>
          <Trouble error={start.error} />
          <div className="flex gap-2">
            <Button kind="main" disabled={!ready || start.isPending} onClick={() => start.mutate(false)}>
              Convert
            </Button>
            <Button
              disabled={!ready || start.isPending}
              title="Where no conversions lead there: carry over what is certain, side by side"
              onClick={() => start.mutate(true)}
            >
              Carry over by hand
            </Button>
          </div>
        </div>
      </Card>
      <div className="space-y-4">
        {from && ready && <SupportTable from={from} to={to} />}
        <Card title="Being worked on">
          <Trouble error={list.error} />
          {list.isPending ? <Waiting /> : <Table columns={columns} rows={rows} id={(c) => c.id} empty="Nothing yet." />}
          <More query={list} />
        </Card>
      </div>
    </div>
  );
}

function SupportTable({ from, to }: { from: string; to: string }) {
  const table = useQuery({
    queryKey: ["support", from, to],
    queryFn: () => ask(api.GET("/configurations/support", { params: { query: { from, to } } })),
    retry: false,
  });
  return (
    <Card title={`What carries over from ${from} to ${to}`}>
      <Trouble error={table.error} />
      <ul className="space-y-1">
        {table.data?.sections.map((s) => (
          <li key={s.section}>
            <p className="flex items-center gap-2">
              <Sign of={s.verdict} />
              <b>{s.section}</b>
              <Muted>{marks[s.verdict].words}</Muted>
            </p>
            {s.notes.map((n) => (
              <p key={n.path} className="ml-7 text-xs text-slate-600 dark:text-slate-400">
                <Sign of={n.verdict} /> {n.path}: {n.why}
              </p>
            ))}
          </li>
        ))}
      </ul>
    </Card>
  );
}
