// Files that are attached to steps done by hand.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, type Change } from "../shared/api";
import { time } from "../shared/format";
import { Trouble } from "../shared/ui";

/** Files that people attached to hand steps. */
export function Attached({ c, step, add }: { c: Change; step?: number; add?: boolean }) {
  const queries = useQueryClient();
  const list = useQuery({
    queryKey: ["evidence", c.id],
    queryFn: () => ask(api.GET("/changes/{id}/evidence", { params: { path: { id: c.id } } })),
  });
  const put = useMutation({
    mutationFn: async (f: File) => {
      const r = await fetch(`/api/v1/changes/${c.id}/evidence?step=${step}&name=${encodeURIComponent(f.name)}`, {
        method: "POST",
        headers: { "Content-Type": "application/octet-stream" },
        body: f,
      });
      if (!r.ok) throw new Error((await r.json()).detail);
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ["evidence", c.id] }),
  });
  const items = (list.data?.items ?? []).filter((e) => !step || e.step === step);
  if (!add && items.length === 0) return null;
  return (
    <div className="flex flex-wrap items-center gap-3">
      {items.map((e) => (
        <a
          key={e.id}
          className="underline"
          href={`/api/v1/changes/${c.id}/evidence/${e.id}`}
          download={e.name}
          title={`${e.addedBy}, ${time(e.addedAt)}`}
        >
          {e.name}
        </a>
      ))}
      {add && (
        <label className="text-xs">
          Picture or file{" "}
          <input
            type="file"
            name="evidence"
            className="text-xs"
            onChange={(e) => {
              const f = e.target.files?.[0];
              if (f) put.mutate(f);
            }}
          />
        </label>
      )}
      <Trouble error={put.error ?? list.error} />
    </div>
  );
}
