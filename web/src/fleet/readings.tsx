// Readings of a device at any time, held against those of an earlier moment.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type S } from "../shared/api";
import { ago, time } from "../shared/format";
import { Evidence } from "../changes/change";
import { Badge, Button, Card, Trouble, Muted } from "../shared/ui";

export function ReadingsCard({ name }: { name: string }) {
  const queries = useQueryClient();
  const path = { params: { path: { name } } };
  const sets = useQuery({
    queryKey: ["readings", name],
    queryFn: () => ask(api.GET("/devices/{name}/readings", { params: { path: { name }, query: { limit: 50 } } })),
  });
  const again = () => queries.invalidateQueries({ queryKey: ["readings", name] });
  const [before, setBefore] = useState(0);
  const [shown, setShown] = useState<S["Comparison"] | null>(null);
  const take = useMutation({ mutationFn: () => ask(api.POST("/devices/{name}/readings", path)), onSuccess: again });
  const verify = useMutation({
    mutationFn: (b: number) => ask(api.POST("/devices/{name}/verify", { ...path, body: b ? { before: b } : {} })),
    onSuccess: (c) => {
      setShown(c);
      again();
    },
  });
  const items = sets.data?.items ?? [];
  return (
    <Card
      title="Readings"
      aside={
        <span className="flex items-center gap-2">
          <Button id="measure" disabled={take.isPending} onClick={() => take.mutate()}>
            {take.isPending ? "Measuring ..." : "Measure now"}
          </Button>
        </span>
      }
    >
      <Trouble error={take.error ?? verify.error ?? sets.error} />
      {items.length === 0 ? (
        <p>Nothing was measured yet. A change measures before and after; here it can be done at any time.</p>
      ) : (
        <div className="flex flex-wrap items-center gap-3">
          <label>
            Compare now with{" "}
            <select
              id="before"
              className="rounded-sm border border-slate-400 bg-transparent px-2 py-1.5 dark:border-slate-600"
              value={before}
              onChange={(e) => setBefore(Number(e.target.value))}
            >
              <option value={0}>the newest</option>
              {items.map((r) => (
                <option key={r.id} value={r.id}>
                  {time(r.at)}, {r.version}, {r.by}
                </option>
              ))}
            </select>
          </label>
          <Button id="verify" kind="main" disabled={verify.isPending} onClick={() => verify.mutate(before)}>
            {verify.isPending ? "Comparing ..." : "Verify"}
          </Button>
          <Muted>last measured {ago(items[0].at)}</Muted>
        </div>
      )}
      {shown && (
        <div className="mt-3 space-y-2">
          <p>
            Now ({shown.now.version}) against {time(shown.before.at)} ({shown.before.version}):{" "}
            <Badge state={shown.verdict.verdict} />
          </p>
          <Evidence of={shown.verdict} />
        </div>
      )}
    </Card>
  );
}
