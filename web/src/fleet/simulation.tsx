// The simulated fleet: what stands where, and what is to go wrong. Only there when the service runs with a simulation.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router-dom";
import { api, ask, type S } from "../shared/api";
import { Badge, Button, Card, Field, Pick, Trouble, Waiting } from "../shared/ui";

export const useSimulation = (wait: number | false) =>
  useQuery({
    queryKey: ["simulation"],
    retry: false,
    refetchInterval: wait,
    queryFn: () => ask(api.GET("/simulation")),
  });

export function SimulationPage() {
  const all = useSimulation(2000);
  if (all.isPending) return <Waiting />;
  if (!all.data) return <Trouble error={all.error} />;
  return (
    <>
      <h1 className="text-lg font-bold">Simulated fleet</h1>
      <p className="text-slate-600 dark:text-slate-400">
        These devices are not real. Let something go wrong with one, then change it and see what becomes of it.
      </p>
      <Card>
        <table className="w-full">
          <thead>
            <tr>
              <th>Device</th>
              <th>Model</th>
              <th>Runs</th>
              <th>Stands</th>
              <th>Goes wrong</th>
              <th className="w-[30rem]">Let go wrong, or do by hand</th>
            </tr>
          </thead>
          <tbody>
            {all.data.items.map((d) => (
              <Row key={d.name} d={d} />
            ))}
          </tbody>
        </table>
      </Card>
    </>
  );
}

function Row({ d }: { d: S["SimulatedDevice"] }) {
  const queries = useQueryClient();
  const again = { onSuccess: () => queries.invalidateQueries({ queryKey: ["simulation"] }) };
  const [fault, setFault] = useState(d.can[0]?.name ?? "");
  const [value, setValue] = useState("");
  const path = (f: string) => ({ params: { path: { name: d.name, fault: f } } });
  const arm = useMutation({
    mutationFn: (v: { fault: string; value: number }) =>
      ask(api.PUT("/simulation/{name}/faults/{fault}", { ...path(v.fault), body: { value: v.value } })),
    ...again,
  });
  const heal = useMutation({
    mutationFn: (f: string) => ask(api.DELETE("/simulation/{name}/faults/{fault}", path(f))),
    ...again,
  });
  const kind = d.can.find((k) => k.name === fault);
  return (
    <tr data-device={d.name} className="border-t border-line align-top dark:border-nightline">
      <td className="font-semibold">
        <Link className="underline decoration-brass underline-offset-4" to={`/devices/${d.name}`}>
          {d.name}
        </Link>
      </td>
      <td>
        {d.maker} {d.model}
      </td>
      <td className="font-mono">{d.version}</td>
      <td>
        <Badge state={d.phase === "ready" ? "ready" : "starting"}>{d.phase}</Badge>
      </td>
      <td>
        {Object.entries(d.faults).map(([name, f]) => (
          <span key={name} className="mr-2 mb-1 inline-flex items-center gap-1">
            <Badge state={f.times && f.times < 0 ? "failed" : "held"}>
              {name}
              {f.value ? ` ${f.value}` : ""}
            </Badge>
            <Button
              className="px-1.5 py-0"
              aria-label={`Take away ${name} from ${d.name}`}
              onClick={() => heal.mutate(name)}
            >
              ×
            </Button>
          </span>
        ))}
      </td>
      <td>
        {d.can.length > 0 && (
          <form
            className="flex items-end gap-2"
            onSubmit={(e) => {
              e.preventDefault();
              arm.mutate({ fault, value: Number(value) || 0 });
            }}
          >
            <div className="w-56">
              <Pick label="Fault" value={fault} onChange={setFault}>
                {d.can.map((k) => (
                  <option key={k.name} value={k.name}>
                    {k.name}
                  </option>
                ))}
              </Pick>
            </div>
            {kind?.text.includes("VALUE") && (
              <div className="w-24">
                <Field
                  label="VALUE"
                  name="value"
                  inputMode="numeric"
                  value={value}
                  onChange={(e) => setValue(e.target.value)}
                />
              </div>
            )}
            <Button type="submit" kind="risk" disabled={arm.isPending}>
              {fault.startsWith("by-hand") ? "Do it" : "Arm"}
            </Button>
          </form>
        )}
        <p className="mt-1 text-xs text-slate-600 dark:text-slate-400">{kind?.text}</p>
        <Trouble error={arm.error ?? heal.error} />
      </td>
    </tr>
  );
}
