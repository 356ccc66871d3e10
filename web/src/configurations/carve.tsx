// Carve services out of a configuration.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router-dom";
import { api, ask } from "../shared/api";
import { SideBySide } from "../shared/sidebyside";
import { Button, Card, Muted, Pick, Trouble } from "../shared/ui";
import { unfilled, sourceOf, Source, Target } from "./source";

export function Services() {
  const go = useNavigate();
  const [filled, setFilled] = useState(unfilled);
  const source = sourceOf(filled);
  const [by, setBy] = useState<"address" | "policy" | "naming">("naming");
  const [picked, setPicked] = useState<string[]>([]);
  const [rename, setRename] = useState<Record<string, string>>({});
  const [to, setTo] = useState("@");
  const groups = useQuery({
    queryKey: ["services", source, by],
    enabled: !!source,
    retry: false,
    queryFn: () => ask(api.POST("/configurations/services", { body: { source: source!, by } })),
  });
  const names = Object.fromEntries(Object.entries(rename).filter(([k, v]) => v && v !== k));
  const carve = { services: picked, rename: names };
  const preview = useQuery({
    queryKey: ["carve", source, picked, names],
    enabled: !!source && picked.length > 0,
    retry: false,
    queryFn: () => ask(api.POST("/configurations/carve", { body: { source: source!, carve } })),
  });
  const start = useMutation({
    mutationFn: () => ask(api.POST("/conversions", { body: { source: source!, to, carve } })),
    onSuccess: (c) => go(`/configurations/${c.id}`),
  });
  const toggle = (list: string[]) =>
    setPicked((p) =>
      list.every((x) => p.includes(x)) ? p.filter((x) => !list.includes(x)) : [...new Set([...p, ...list])],
    );
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[5fr_7fr]">
      <Card title="Services of a gateway">
        <div className="space-y-4">
          <Source label="Gateway" value={filled} onChange={setFilled} />
          <Pick label="Grouped by" value={by} onChange={(v) => setBy(v as typeof by)}>
            <option value="naming">naming</option>
            <option value="address">shared address</option>
            <option value="policy">policy</option>
          </Pick>
          <Trouble error={groups.error} />
          <ul className="max-h-[46vh] space-y-2 overflow-y-auto">
            {groups.data?.items.map((g) => (
              <li key={g.name}>
                <label className="flex items-center gap-2 font-semibold">
                  <input
                    type="checkbox"
                    checked={g.services.every((s) => picked.includes(s.name))}
                    onChange={() => toggle(g.services.map((s) => s.name))}
                  />
                  {g.name}
                </label>
                {g.services.map((s) => (
                  <label key={s.name} className="ml-6 flex items-center gap-2">
                    <input
                      type="checkbox"
                      aria-label={s.name}
                      checked={picked.includes(s.name)}
                      onChange={() => toggle([s.name])}
                    />
                    {s.name}
                    <Muted small>
                      line {s.line}, {s.address || "no address"}, {s.policy || "no policy"}
                    </Muted>
                  </label>
                ))}
              </li>
            ))}
          </ul>
        </div>
      </Card>
      <div className="space-y-4">
        <Trouble error={preview.error ?? start.error} />
        {picked.length > 0 && preview.data && (
          <>
            <Card title={`${preview.data.services.length} services with what they need`}>
              <table className="w-full">
                <thead>
                  <tr>
                    <th>What</th>
                    <th>Name</th>
                    <th>New name</th>
                    <th>Line</th>
                    <th>Shared</th>
                  </tr>
                </thead>
                <tbody>
                  {[
                    ...preview.data.services.map((s) => ({
                      kind: "service",
                      name: s.name,
                      line: s.line,
                      shared: false,
                      usedBy: [] as string[],
                    })),
                    ...preview.data.needs,
                  ].map((n) => (
                    <tr key={n.kind + n.name} className="border-t border-line dark:border-nightline">
                      <td>{n.kind}</td>
                      <td className="font-mono text-xs">{n.name}</td>
                      <td>
                        <input
                          aria-label={`New name of ${n.name}`}
                          placeholder={n.name}
                          value={rename[n.name] ?? ""}
                          onChange={(e) => setRename({ ...rename, [n.name]: e.target.value.trim() })}
                          className="w-40 rounded-sm border border-slate-400 bg-transparent px-1 dark:border-slate-600"
                        />
                      </td>
                      <td>{n.line}</td>
                      <td title={n.usedBy.join("\n")}>
                        {n.shared
                          ? `stays as well, for ${n.usedBy.length || "an"}${n.usedBy.length ? " other" : "other"}${n.usedBy.length > 1 ? "s" : ""}`
                          : "moves along"}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {preview.data.missing.map((m) => (
                <p key={m} className="mt-2 font-semibold">
                  ? {m}
                </p>
              ))}
            </Card>
            <Card title="New home">
              <div className="space-y-3">
                <Target value={to} onChange={setTo} />
                <Button
                  kind="main"
                  disabled={to.startsWith("@") || to.endsWith("@") || start.isPending}
                  onClick={() => start.mutate()}
                >
                  Carve out and convert
                </Button>
              </div>
            </Card>
            <Card title="What is carved out, and what stays behind">
              <SideBySide
                left={preview.data.text}
                right={preview.data.rest}
                leftKinds={new Map()}
                rightKinds={new Map()}
                names={["Carved out", "Stays behind"]}
              />
            </Card>
          </>
        )}
        {picked.length === 0 && source && <p>Tick the services to carve out.</p>}
      </div>
    </div>
  );
}
