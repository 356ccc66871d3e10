// A look at a device is a job of the service: the page starts it, shows how far it is, and reads the device anew when it has ended.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, ask, Refused, type S } from "../shared/api";
import { duration } from "../shared/format";
import { Bar, Muted, Trouble } from "../shared/ui";

/** Whether a refresh goes on. */
const isOpen = (r?: S["Refresh"] | null) => !!r && !r.endedAt;

/** A device that was never refreshed is no trouble. */
function noneYet(e: unknown) {
  if (e instanceof Refused && e.problem.status === 404) return null;
  throw e;
}

export function useRefresh(name: string) {
  const queries = useQueryClient();
  const key = ["refresh", name];
  const path = { params: { path: { name } } };
  const last = useQuery({
    queryKey: key,
    queryFn: () => ask(api.GET("/devices/{name}/refresh", path)).catch(noneYet),
    refetchInterval: (q) => (isOpen(q.state.data) ? 500 : 5000),
  });
  const [asked, setAsked] = useState(0);
  const start = useMutation({
    mutationFn: () => ask(api.POST("/devices/{name}/refresh", path)),
    onSuccess: (r) => {
      setAsked(r.id);
      queries.setQueryData(key, r);
    },
  });
  const ended = last.data?.endedAt;
  useEffect(() => {
    if (!ended) return;
    queries.invalidateQueries({ queryKey: ["device", name] });
    queries.invalidateQueries({ queryKey: ["path", name] });
  }, [ended, name, queries]);
  return {
    now: last.data,
    open: start.isPending || isOpen(last.data),
    // Why a look that was asked for here failed; of older ones the device itself tells.
    error: start.error ?? (last.data?.problem && last.data.id === asked ? new Refused(last.data.problem) : null),
    start: () => start.mutate(),
  };
}

/** How far a refresh is, or why it failed. */
export function RefreshProgress({ refresh: { now, error } }: { refresh: ReturnType<typeof useRefresh> }) {
  if (error) return <Trouble error={error} />;
  if (!now || !isOpen(now)) return null;
  return (
    <div role="status" className="flex items-center gap-3 whitespace-nowrap">
      <Bar fraction={now.fraction} label={`Refresh of ${now.device}`} />
      <span>{now.doing ?? "waiting for a worker"}</span>
      {now.usualSeconds !== undefined && (
        <Muted>usually {now.usualSeconds < 1 ? "less than 1 s" : duration(now.usualSeconds)} in all</Muted>
      )}
    </div>
  );
}
